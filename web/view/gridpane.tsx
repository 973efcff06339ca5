// The grid of an answer with the menus of its members, and the panel beside or below it.

import { h, type ComponentChildren } from "preact";
import { useState } from "preact/hooks";
import { Grid } from "../src/grid";
import { Actions, Box } from "./box";
import type { LiveGrid } from "./livegrid";
import type { Axis } from "./types";

export interface Menu { axis: Axis; line: number }

interface Props {
  live: LiveGrid; label: string; size: number; chosen: [number, number][]; setChosen(cells: [number, number][]): void;
  below: boolean; panel: ComponentChildren; copy(): void;
  turn(menu: Menu, how: "only" | "without" | "open" | "close"): void;
  apart(axis: Axis, field: number): void;
  order(formula: string, descending: boolean): void;
  explain(cell: [number, number]): void;
}

export function GridPane(props: Props) {
  const { live, label, size, chosen, setChosen, below, panel, copy, turn } = props;
  const [folded, setFolded] = useState<ReadonlySet<string>>(new Set());
  const [menu, setMenu] = useState<(Menu & { anchor: HTMLElement }) | null>(null);
  const [about, setAbout] = useState<number | null>(null);
  const { shown } = live;
  const fold = (at: number) => {
    const row = shown.rows[at];
    if (row?.can === "open") turn({ axis: "rows", line: at }, "open");
    else {
      const next = new Set(folded);
      const name = live.name(at);
      if (!next.delete(name)) next.add(name);
      setFolded(next);
    }
  };
  const value = about === null ? null : shown.values[about];
  return (
    <main class={below ? "stacked" : ""}>
      {shown.rows.length === 0 ? <p class="none nothing">Nothing to show: no member has a value.</p>
        : <Grid source={live.source(label, folded)} size={size} sorted={null} pictured={-1} chosen={chosen} hands={{
          fold, copy, about: setAbout, order: () => undefined,
          line: (at, anchor) => setMenu({ axis: "rows", line: at, anchor }),
          head: (at, _, anchor) => setMenu({ axis: "columns", line: at, anchor }),
          cell: (line, column, also) => {
            if (!shown.rows[line]?.cells) return;
            const last = chosen.at(-1);
            setChosen(also && last ? [last, [line, column]] : [[line, column]]);
          },
          seen: (rows, columns) => {
            const lines = live.lines(folded);
            const own = lines.slice(rows[0], rows[1]);
            if (own.length) live.fetch([own[0]!, own.at(-1)! + 1], columns);
          },
        }} />}
      {panel}
      {menu && <Box anchor={menu.anchor} label="What to do with this member" close={() => setMenu(null)}>
        <MemberMenu {...props} menu={menu} close={() => setMenu(null)} />
      </Box>}
      {value && <div class="about-box" role="dialog" aria-label={`About ${value.heading}`}
        onKeyDown={(event) => event.key === "Escape" && setAbout(null)}>
        <h2>{value.heading}</h2>{value.about && <p>{value.about}</p>}<pre>{value.formula}</pre>
        <button onClick={() => setAbout(null)}>Close</button></div>}
    </main>
  );
}

function MemberMenu({ live, menu, close, turn, apart, order, explain }: Props & { menu: Menu; close(): void }) {
  const { shown } = live;
  const rows = menu.axis === "rows";
  const line = rows ? shown.rows[menu.line]! : shown.columns[menu.line]!;
  const fields = shown.fields[menu.axis];
  const depth = rows ? shown.rows[menu.line]!.d : Math.max(0, Math.min(fields.length, shown.depth) - 1);
  const field = fields[Math.min(depth, fields.length - 1)];
  const value = rows ? null : shown.values[Math.max(shown.columns[menu.line]!.v, 0)]!;
  const name = rows ? shown.rows[menu.line]!.t : shown.columns[menu.line]!.labels.map((each) => each.t).filter(Boolean).join(" / ");
  const member = line.can !== "" && line.can !== "others";
  return (
    <div class="menu">
      <h2>{name}</h2>
      <Actions done={close} items={[
        member ? ["Only this", () => turn(menu, "only")] : null,
        member ? ["Without this", () => turn(menu, "without")] : null,
        line.can === "open" ? ["Open", () => turn(menu, "open")] : null,
        line.can === "close" ? ["Close", () => turn(menu, "close")] : null,
        line.can === "others" && field ? ["Show each of the others", () => apart(menu.axis, field.source)] : null,
        rows && shown.rows[menu.line]!.cells ? ["Explain its first value", () => explain([menu.line, 0])] : null,
        value ? [`Order rows by ${value.heading}, largest first`, () => order(value.label, true)] : null,
        value ? [`Order rows by ${value.heading}, smallest first`, () => order(value.label, false)] : null,
      ]} />
    </div>
  );
}
