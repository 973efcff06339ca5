// A live grid as it is drawn: its heads are here, its cells are fetched block by block as they come into view.

import type { Cell, Column, Line, Source } from "../src/grid";
import type { Host } from "./host";
import type { Cells, Shown } from "./types";

// As in src/relatum/view/shown.py: the first block has these sizes too.
const HIGH = 120;
const WIDE = 24;
const NOTHING: Cell = { text: null, look: 0, kind: "", struck: "" };

/** The blocks of one grid, and which lines are folded away. */
export class LiveGrid {
  readonly shown: Shown;
  readonly number: number;
  looks: Shown["looks"];
  private host: Host;
  private changed: () => void;
  private blocks = new Map<string, Cells | "asked">();
  private parents: boolean[];
  private names: string[];

  constructor(host: Host, number: number, shown: Shown, changed: () => void, first?: Cells) {
    this.host = host;
    this.number = number;
    this.shown = shown;
    this.looks = first?.looks ?? shown.looks;
    this.changed = changed;
    // The first block comes with the heads.
    if (first) this.blocks.set("0,0", first);
    const { rows } = shown;
    this.parents = rows.map((row, at) => (rows[at + 1]?.d ?? -1) > row.d);
    const stack: string[] = [];
    this.names = rows.map((row, at) => {
      stack.length = row.d;
      // Members that are written alike, as null and a text of that name, are two lines.
      const own = `${row.k}:${row.t}:${row.v}:${row.k === "member" ? "" : at}`;
      stack[row.d] = own;
      return stack.join("\u0000");
    });
  }

  /** Which lines are shown where some are folded. */
  lines(folded: ReadonlySet<string>): number[] {
    const found: number[] = [];
    let under = Infinity;
    this.shown.rows.forEach((row, at) => {
      if (row.d > under) return;
      under = folded.has(this.name(at)) && this.parents[at] ? row.d : Infinity;
      found.push(at);
    });
    return found;
  }

  name(at: number): string {
    return this.names[at] ?? String(at);
  }

  isParent(at: number): boolean {
    return this.parents[at] ?? false;
  }

  source(label: string, folded: ReadonlySet<string>): Source {
    const { shown } = this;
    return {
      label, heading: shown.heading, headWidth: shown.headWidth, depth: shown.depth, looks: this.looks,
      lines: this.lines(folded), columns: shown.columns.map((_, at) => at),
      line: (at) => this.line(at, folded), column: (at) => this.column(at), name: (at) => this.name(at),
      cell: (line, column) => this.cell(line, column),
      heads: (value) => shown.values[value]?.heading ?? "",
    };
  }

  private line(at: number, folded: ReadonlySet<string>): Line {
    const row = this.shown.rows[at];
    if (row === undefined) throw new Error(`no line ${at}`);
    const parent = this.isParent(at);
    return {
      ...row, parent: parent || row.can === "open", open: parent && row.can !== "open" && !folded.has(this.name(at)),
    };
  }

  private column(at: number): Column {
    const own = this.shown.columns[at];
    if (own === undefined) throw new Error(`no column ${at}`);
    return { ...own, value: Math.max(own.v, 0) };
  }

  cell(line: number, column: number): Cell | null {
    const block = this.blocks.get(`${Math.floor(line / HIGH)},${Math.floor(column / WIDE)}`);
    if (block === undefined || block === "asked") return this.shown.rows[line]?.cells ? null : NOTHING;
    const place = (line - block.rows[0]) * (block.columns[1] - block.columns[0]) + column - block.columns[0];
    const text = block.texts[place] ?? null;
    return { text, look: block.styled[place] ?? 0, kind: block.kinds[place] ?? "", struck: "" };
  }

  /** Fetches what is seen of a grid and not here yet. */
  fetch(lines: [number, number], columns: [number, number]): void {
    const { rows } = this.shown;
    for (let high = Math.floor(lines[0] / HIGH); high * HIGH < Math.min(lines[1], rows.length); high += 1) {
      for (let wide = Math.floor(columns[0] / WIDE); wide * WIDE < Math.min(columns[1], this.shown.columns.length); wide += 1) {
        this.ask(high, wide);
      }
    }
  }

  private ask(high: number, wide: number): void {
    const key = `${high},${wide}`;
    if (this.blocks.has(key)) return;
    this.blocks.set(key, "asked");
    const { answer } = this.host.ask<Cells>({
      kind: "block", grid: this.number, rows: [high * HIGH, Math.min((high + 1) * HIGH, this.shown.rows.length)],
      columns: [wide * WIDE, Math.min((wide + 1) * WIDE, this.shown.columns.length)],
    });
    answer.then((cells) => {
      if (cells.looks) this.looks = cells.looks;
      this.blocks.set(key, cells);
      this.changed();
    }, () => this.blocks.delete(key));
  }

  /** All that is shown, as lines of texts with tabs between: what a spreadsheet takes. Cells come from the host. */
  async asText(folded: ReadonlySet<string>): Promise<string> {
    const { shown } = this;
    const lines = this.lines(folded);
    const table: string[][] = [...Array(shown.depth).keys()].map((level) => [
      level === shown.depth - 1 ? shown.heading : "",
      ...shown.columns.map((column) => column.labels[level]?.t ?? shown.values[Math.max(column.v, 0)]?.heading ?? ""),
    ]);
    const step = Math.max(1, Math.floor(20_000 / Math.max(shown.columns.length, 1)));
    for (let from = 0; from < shown.rows.length; from += step) {
      const to = Math.min(from + step, shown.rows.length);
      const { answer } = this.host.ask<Cells>({
        kind: "block", grid: this.number, rows: [from, to], columns: [0, shown.columns.length],
      });
      const cells = await answer;
      const wanted = new Set(lines);
      for (let at = from; at < to; at += 1) {
        const row = shown.rows[at];
        if (row === undefined || !wanted.has(at)) continue;
        const start = (at - from) * shown.columns.length;
        const own = cells.texts.slice(start, start + shown.columns.length).map((text) => text ?? "");
        table.push(["  ".repeat(row.d) + row.t, ...own]);
      }
    }
    return table.map((line) => line.map((text) => text.replace(/[\t\r\n]+/g, " ")).join("\t")).join("\n");
  }
}
