// What lies beside the grid: a chart, why a cell is what it is, what moved between two, and the members of a column.

import { h } from "preact";
import { useEffect, useLayoutEffect, useRef, useState } from "preact/hooks";
import { Blocks, handOver, pictureAddress } from "./blocks";
import { Refused, type Host } from "./host";
import { MemberList } from "./memberlist";
import { Picker, columnsOf } from "./picker";
import type { Chart, Explanation, FileBytes, Message, Names, RowsPage } from "./types";
import { called } from "./words";

export type Tab = "chart" | "why" | "moved" | "members";
export const TABS: [Tab, string][] = [["chart", "Chart"], ["why", "Why"], ["moved", "What moved"], ["members", "Members"]];

interface Props {
  host: Host; tab: Tab; set(tab: Tab): void; grid: number; chosen: [number, number][]; names: Names; where: string;
  charts: string[]; dark: boolean; below: boolean; place(below: boolean): void; close(): void;
}

/** An answer that is asked again whenever the message changes. */
export function useAnswer<T>(host: Host, message: Message | null, wait = 0): { answer: T | null; fault: string; waiting: boolean } {
  const [state, setState] = useState<{ answer: T | null; fault: string; waiting: boolean }>({ answer: null, fault: "", waiting: false });
  const key = JSON.stringify(message);
  useEffect(() => {
    if (message === null) {
      setState({ answer: null, fault: "", waiting: false });
      return undefined;
    }
    let wanted = true;
    setState((before) => ({ ...before, waiting: true }));
    let asked = 0;
    const timer = setTimeout(() => {
      const { number, answer: told } = host.ask<T>(message);
      asked = number;
      told.finally(() => { asked = 0; }).then(
        (answer) => wanted && setState({ answer, fault: "", waiting: false }),
        (error: unknown) => wanted && setState({
          answer: null, waiting: false, fault: error instanceof Refused ? `${error.fault.reason} ${error.fault.fix}`.trim() : String(error),
        }),
      );
    }, wait);
    return () => {
      wanted = false;
      clearTimeout(timer);
      if (asked) void host.ask({ kind: "stop", number: asked }).answer.catch(() => undefined);
    };
  }, [key]);
  return state;
}

export function Panel(props: Props) {
  const { tab, set, below, place, close } = props;
  return (
    <aside class="panel" aria-label="Beside the grid">
      <div class="tabs"><div role="tablist" aria-label="What is beside the grid">
        {TABS.map(([name, label]) => (
          <button role="tab" id={`tab-${name}`} aria-selected={tab === name} aria-controls="panel-body" tabIndex={tab === name ? 0 : -1}
            onClick={() => set(name)} onKeyDown={(event) => {
              const step = { ArrowRight: 1, ArrowLeft: -1 }[event.key];
              if (step === undefined) return;
              const at = TABS.findIndex(([each]) => each === tab);
              const next = TABS[(at + step + TABS.length) % TABS.length]![0];
              set(next);
              document.getElementById(`tab-${next}`)?.focus();
            }}>{label}</button>))}</div>
        <span class="rest" />
        <button aria-label={below ? "Put the panel beside the grid" : "Put the panel below the grid"} onClick={() => place(!below)}>
          {below ? "◨" : "⬓"}</button>
        <button aria-label="Close the panel" onClick={close}>×</button>
      </div>
      <div class="body" id="panel-body" role="tabpanel" aria-labelledby={`tab-${tab}`} tabIndex={0}>
        {tab === "chart" && <ChartTab {...props} />}
        {tab === "why" && <WhyTab {...props} />}
        {tab === "moved" && <MovedTab {...props} />}
        {tab === "members" && <MembersTab {...props} />}
      </div>
    </aside>
  );
}

const MOVED = "Choose a cell, then another with Shift held down (or Shift+Enter).";

/** So long a grid must stand before it is drawn: who clicks on is not kept waiting by pictures. */
const SETTLED = 400;
const INCH = 78;

/** The size of a picture in inches, for the room that there is. */
function sizeOf(box: HTMLElement | null): [number, number] {
  const room = box?.parentElement;
  // With its scroll bars, which come and go with the picture.
  const width = Math.round(Math.max(5, Math.min((room?.offsetWidth ?? 500) / INCH, 16)) * 2) / 2;
  return [width, Math.round(Math.max(3.5, Math.min((room?.offsetHeight ?? 400) / INCH - 1.2, width * 0.75)) * 2) / 2];
}

function ChartTab({ host, grid, charts, dark, below }: Props) {
  const [kind, setKind] = useState("auto");
  const [size, setSize] = useState<[number, number] | null>(null);
  const panel = useRef<HTMLDivElement>(null);
  useLayoutEffect(() => setSize(sizeOf(panel.current)), [below]);
  const { answer, fault, waiting } = useAnswer<Chart>(host, size && {
    kind: "chart", grid, chart: kind, mode: dark ? "dark" : "light", size,
  }, SETTLED);
  return (
    <div ref={panel}>
      <label class="typed"><span>kind</span>
        <select aria-label="kind of chart" value={kind} onChange={(event) => setKind(event.currentTarget.value)}>
          <option value="auto">what fits</option>
          {charts.map((each) => <option value={each}>{each}</option>)}</select>
        <button onClick={async () => handOver(await host.ask<FileBytes>({ kind: "export", grid, ending: ".png", chart: kind }).answer)}>
          Save as PNG</button></label>
      {fault && <p class="fault" role="status">{fault}</p>}
      {!answer && !fault && <p class="none" role="status">Drawing…</p>}
      {answer && <figure class={waiting ? "waiting" : ""}><img src={pictureAddress(answer.svg)} alt={`Chart: ${answer.choice}`} />
        <figcaption class="none">{[answer.choice, ...answer.notes].join("; ")}</figcaption></figure>}
    </div>
  );
}

function WhyTab({ host, grid, chosen }: Props) {
  const cell = chosen.at(-1);
  const { answer, fault, waiting } = useAnswer<Explanation>(host, cell ? { kind: "explain", grid, cell } : null);
  if (!cell) return <p class="none">Choose a cell of the grid: it is explained here, down to its rows.</p>;
  return (
    <div class={waiting ? "waiting" : ""}>
      {fault && <p class="fault" role="status">{fault}</p>}
      {answer && <Blocks blocks={answer.head} />}
      {answer?.notes.map((note) => <p>note: {note}</p>)}
      {answer?.evidence.map((each, number) => (
        <section key={`${cell.join()},${number}`}>
          <Blocks blocks={each.blocks} />
          <Rows host={host} grid={grid} cell={cell} evidence={number} kind={each.kind} />
        </section>
      ))}
    </div>
  );
}

const PAGE = 100;

/** All rows behind an aggregate, a page at a time, and as a file. */
function Rows({ host, grid, cell, evidence, kind }: { host: Host; grid: number; cell: [number, number]; evidence: number; kind: string }) {
  const [first, setFirst] = useState(-1);
  const message = first < 0 ? null : { kind: "behind", grid, cell, evidence, first, count: PAGE };
  const { answer, fault } = useAnswer<RowsPage>(host, message);
  const file = async (ending: string) =>
    handOver(await host.ask<FileBytes>({ kind: "behindfile", grid, cell, evidence, ending }).answer);
  return (
    <div>
      <div class="buttons">
        {first < 0 ? <button onClick={() => setFirst(0)}>All {kind}</button> : <button onClick={() => setFirst(-1)}>Close</button>}
        {answer && <button disabled={first === 0} onClick={() => setFirst(first - PAGE)}>Before</button>}
        {answer && <button disabled={first + PAGE >= answer.total} onClick={() => setFirst(first + PAGE)}>After</button>}
        {answer && <span class="none">{first + 1} to {Math.min(first + PAGE, answer.total)} of {answer.total.toLocaleString()}</span>}
        <button onClick={() => void file(".csv")}>CSV</button><button onClick={() => void file(".parquet")}>Parquet</button>
      </div>
      {fault && <p class="fault">{fault}</p>}
      {answer && <div class="blocks" tabIndex={0}><table><thead><tr>{answer.heads.map((head, at) =>
        <th scope="col" class={answer.numbers[at] ? "number" : ""}>{head}</th>)}</tr></thead>
      <tbody>{answer.rows.map((line) => <tr>{line.map((text, at) => <td class={answer.numbers[at] ? "number" : ""}>{text}</td>)}</tr>)}</tbody>
      </table></div>}
    </div>
  );
}

function MovedTab({ host, grid, chosen, names }: Props) {
  const [along, setAlong] = useState("");
  const [choosing, setChoosing] = useState(false);
  const [before, now] = chosen;
  const message = before && now ? { kind: "explain", grid, cell: now, against: before, along } : null;
  const { answer, fault, waiting } = useAnswer<Explanation>(host, message);
  if (!before || !now) return <p class="none">{MOVED}</p>;
  return (
    <div class={waiting ? "waiting" : ""}>
      {fault && <p class="fault" role="status">{fault}</p>}
      {answer && <Blocks blocks={answer.difference} />}
      <div class="buttons">
        <button onClick={() => setChoosing(!choosing)}>{answer ? `By ${called(names, answer.by)}…` : "By another column…"}</button>
        {along && <button onClick={() => setAlong("")}>What tells most</button>}
      </div>
      {choosing && <Picker items={columnsOf(names)} label="Search the column to divide it by" choose={(name) => {
        setChoosing(false);
        setAlong(name);
      }} />}
    </div>
  );
}

function MembersTab({ host, names, where }: Props) {
  const [column, setColumn] = useState("");
  if (!column) return <Picker items={columnsOf(names)} label="Search the column to list" choose={setColumn} />;
  return (
    <div>
      <div class="buttons"><b>{called(names, column)}</b><button onClick={() => setColumn("")}>Another column…</button></div>
      <MemberList host={host} column={column} where={where} choice={null} />
    </div>
  );
}
