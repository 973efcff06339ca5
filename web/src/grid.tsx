// A grid in which only what is seen is drawn: the same for a page in a file and for a live one.

import { Component, Fragment, h, type ComponentChildren } from "preact";
import { useLayoutEffect, useMemo, useRef, useState } from "preact/hooks";

export const LINE = 27;
const AHEAD = 8;
const LEAST_WIDTH = 36;

export interface Look {
  colour: [string, string] | null; fill: [string, string] | null; bold: boolean | null; mark: string;
  bar: [number, number] | null; barPaint: [string, string] | null;
}
export interface Line {
  t: string; d: number; k: string; l: number; total: boolean;
  /** Whether it has lines below it, or could have, and whether they are shown. */
  parent: boolean; open: boolean;
}
export interface Column { labels: { t: string; c: number; l: number }[]; w: number; total: boolean; value: number }
export interface Cell { text: string | null; look: number; kind: string; struck: string }

/** What a grid draws; lines and columns go by their numbers. */
export interface Source {
  label: string;
  heading: string;
  headWidth: number;
  depth: number;
  /** The numbers of the visible lines and columns, in order. */
  lines: number[];
  columns: number[];
  line(at: number): Line;
  column(at: number): Column;
  name(at: number): string;
  /** A cell; null while it is being fetched. */
  cell(line: number, column: number): Cell | null;
  heads(value: number): string;
  looks: (Look | null)[];
}

/** What a grid can do. */
export interface Hands {
  fold(at: number): void;
  order(column: number): void;
  about(value: number): void;
  copy(): void;
  /** What else is done with a line, a column's head at some level, or a cell. */
  line?(at: number, anchor: HTMLElement): void;
  head?(at: number, level: number, anchor: HTMLElement): void;
  cell?(line: number, column: number, also: boolean): void;
  /** Told which numbers are seen, ends not included, so that they can be fetched. */
  seen?(rows: [number, number], columns: [number, number]): void;
}

interface Props {
  source: Source; hands: Hands; size: number;
  sorted: { column: number; down: boolean } | null;
  /** The column that a chart follows, and the cells that are chosen. */
  pictured: number; chosen?: [number, number][];
}

const NONE: [number, number][] = [];

interface Seen { top: number; left: number; height: number; width: number; print: boolean }

function useWindow(lines: number, widths: number[], first: number, heads: number) {
  const box = useRef<HTMLDivElement>(null);
  const [seen, setSeen] = useState<Seen>({ top: 0, left: 0, height: 700, width: 1200, print: false });
  useLayoutEffect(() => {
    const element = box.current;
    if (element === null) return undefined;
    const look = () => setSeen((before) => ({
      ...before, top: element.scrollTop, left: element.scrollLeft, height: element.clientHeight, width: element.clientWidth,
    }));
    const print = (on: boolean) => () => setSeen((before) => ({ ...before, print: on }));
    const [before, after] = [print(true), print(false)];
    look();
    const watch = new ResizeObserver(look);
    watch.observe(element);
    element.addEventListener("scroll", look, { passive: true });
    addEventListener("beforeprint", before);
    addEventListener("afterprint", after);
    return () => {
      watch.disconnect();
      element.removeEventListener("scroll", look);
      removeEventListener("beforeprint", before);
      removeEventListener("afterprint", after);
    };
  }, []);
  const from = seen.print ? 0 : Math.max(0, Math.floor(seen.top / LINE) - AHEAD);
  const to = seen.print ? lines : Math.min(lines, Math.ceil((seen.top + seen.height - heads * LINE) / LINE) + AHEAD);
  const { starts, total } = useMemo(() => {
    const found: number[] = [];
    let end = first;
    widths.forEach((width) => {
      found.push(end);
      end += width;
    });
    return { starts: found, total: end };
  }, [widths, first]);
  const last = useRef<number[]>([]);
  const now = widths.map((_, place) => place).filter((place) => {
    const start = starts[place] ?? 0;
    return seen.print || (start + (widths[place] ?? 0) > seen.left && start < seen.left + seen.width + 200);
  });
  // The same columns are the same list: lines that have not changed are left as they are.
  const shown = last.current = now.join() === last.current.join() ? last.current : now;
  return { box, from: Math.min(from, to), to, starts, total, shown };
}

export function Grid({ source, hands, size, sorted, pictured, chosen = NONE }: Props) {
  const { lines, columns, depth } = source;
  const em = size * 0.62;
  const [pulled, setPulled] = useState<Record<string, number>>({});
  const first = pulled.first ?? Math.min(Math.max(source.headWidth * em + 44, 120), Math.max(innerWidth * 0.45, 140));
  const widths = useMemo(() => columns.map((at) => pulled[at] ?? source.column(at).w * em + 26), [source, pulled, em]);
  const { box, from, to, starts, total, shown } = useWindow(lines.length, widths, first, depth);
  const [place, setPlace] = useState<[number, number]>([0, -1]);
  const row = Math.min(place[0], lines.length - 1);
  const column = Math.min(place[1], columns.length - 1);
  useLayoutEffect(() => {
    if (shown.length) hands.seen?.([from, to], [shown[0] ?? 0, (shown.at(-1) ?? 0) + 1]);
  });

  const go = (nextRow: number, nextColumn: number) => {
    const element = box.current;
    if (element === null) return;
    const next: [number, number] =
      [Math.max(0, Math.min(nextRow, lines.length - 1)), Math.max(-1, Math.min(nextColumn, columns.length - 1))];
    setPlace(next);
    const top = next[0] * LINE;
    const room = element.clientHeight - (depth + 1) * LINE;
    if (top < element.scrollTop) element.scrollTop = top;
    if (top > element.scrollTop + room) element.scrollTop = top - room;
    if (next[1] >= 0) {
      const start = (starts[next[1]] ?? 0) - first;
      const stop = (starts[next[1]] ?? 0) + (widths[next[1]] ?? 0);
      if (start < element.scrollLeft) element.scrollLeft = start;
      if (stop > element.scrollLeft + element.clientWidth) element.scrollLeft = stop - element.clientWidth;
    }
  };
  const key = (event: KeyboardEvent) => {
    const at = lines[row];
    if (at === undefined || event.altKey || event.target !== box.current) return;
    const { parent, open } = source.line(at);
    const far = Math.floor((box.current?.clientHeight ?? 0) / LINE) - 3;
    const under = () => document.getElementById(cellName(row, column)) ?? box.current!;
    const moves: Record<string, () => void> = {
      ArrowDown: () => go(row + 1, column), ArrowUp: () => go(row - 1, column),
      ArrowRight: () => (column < 0 && parent && !open ? hands.fold(at) : go(row, column + 1)),
      ArrowLeft: () => (column < 0 && parent && open ? hands.fold(at) : go(row, column - 1)),
      PageDown: () => go(row + far, column), PageUp: () => go(row - far, column),
      Home: () => go(event.ctrlKey ? 0 : row, -1), End: () => go(event.ctrlKey ? lines.length - 1 : row, columns.length - 1),
      Enter: () => {
        const over = columns[column];
        if (column >= 0 && over !== undefined) {
          if (hands.cell) hands.cell(at, over, event.shiftKey);
          else hands.order(over);
        } else if (hands.line) hands.line(at, under());
        else if (parent) hands.fold(at);
      },
      " ": () => (parent ? hands.fold(at) : undefined),
    };
    if ((event.ctrlKey || event.metaKey) && event.key === "c" && String(getSelection()) === "") {
      event.preventDefault();
      hands.copy();
    } else if (moves[event.key]) {
      event.preventDefault();
      moves[event.key]?.();
    }
  };
  const pull = (name: string, now: number) => (event: PointerEvent) => {
    event.preventDefault();
    event.stopPropagation();
    const start = event.clientX;
    const move = (next: PointerEvent) =>
      setPulled((before) => ({ ...before, [name]: Math.max(LEAST_WIDTH, now + next.clientX - start) }));
    const end = () => {
      removeEventListener("pointermove", move);
      removeEventListener("pointerup", end);
    };
    addEventListener("pointermove", move);
    addEventListener("pointerup", end);
  };
  const style = { "--first": `${first}px`, width: `${total}px`, height: `${(lines.length + depth) * LINE}px` };
  return (
    <div class="grid" ref={box} role="treegrid" tabIndex={0} aria-label={source.label} onKeyDown={key}
      aria-rowcount={lines.length + depth} aria-colcount={columns.length + 1}
      aria-activedescendant={lines.length ? cellName(row, column) : undefined} style={{ "--line": `${LINE}px` }}>
      <div class="sheet" style={style} role="presentation">
        <Heads {...{ source, hands, shown, starts, widths, total, sorted, pictured, first, pull }} />
        {lines.slice(from, to).map((at, step) => (
          <Row key={source.name(at)} {...{ source, hands, at, shown, starts, widths, total, chosen }} number={from + step}
            active={from + step === row ? column : null} pick={(picked: number) => go(from + step, picked)} />
        ))}
      </div>
    </div>
  );
}

const cellName = (line: number, at: number) => `cell-${line}-${at}`;

interface HeadsProps {
  source: Source; hands: Hands; shown: number[]; starts: number[]; widths: number[]; total: number;
  sorted: Props["sorted"]; pictured: number; first: number;
  pull(name: string, now: number): (event: PointerEvent) => void;
}

function Heads({ source, hands, shown, starts, widths, total, sorted, pictured, first, pull }: HeadsProps) {
  const { columns, depth } = source;
  return (
    <div class="heads" style={{ width: `${total}px`, height: `${depth * LINE}px` }} role="rowgroup">
      {[...Array(depth).keys()].map((level) => (
        <div role="row" aria-rowindex={level + 1}>
          <div role="columnheader" class="cell first head" style={{ top: `${level * LINE}px` }} aria-colindex={1}>
            {level === depth - 1 && source.heading ? source.heading : <span class="hidden">columns</span>}
            {level === depth - 1 && <i class="pull" onPointerDown={pull("first", first)} />}</div>
          {shown.map((place) => {
            const at = columns[place] ?? 0;
            const style = { left: `${starts[place]}px`, width: `${widths[place]}px`, top: `${level * LINE}px` };
            const before = place > 0 && shown[0] !== place ? source.column(columns[place - 1] ?? 0) : null;
            return level < depth - 1
              ? <Upper {...{ source, hands, at, level, before, style, place }} />
              : <Last {...{ source, hands, at, level, style, place, sorted, pictured }}
                pull={pull(String(at), widths[place] ?? 0)} />;
          })}
        </div>
      ))}
    </div>
  );
}

interface HeadProps { source: Source; hands: Hands; at: number; level: number; style: Record<string, string>; place: number }

function Upper({ source, hands, at, level, before, style, place }: HeadProps & { before: Column | null }) {
  const own = source.column(at);
  const label = own.labels[level];
  const again = before !== null && label !== undefined && before.labels.slice(0, level + 1).every((each, depth) =>
    each.t === own.labels[depth]?.t && each.c === own.labels[depth]?.c);
  const text = again ? "" : label?.t ?? "";
  const heard = label?.t || "total";
  return (
    <div role="columnheader" class="cell head up" style={style} aria-colindex={place + 2}>
      {hands.head && text
        ? <button class="order" onClick={(event) => hands.head?.(at, level, event.currentTarget)}>
          <Looked looks={source.looks} look={label?.l ?? 0} text={text} /></button>
        : text ? <Looked looks={source.looks} look={label?.l ?? 0} text={text} /> : <span class="hidden">{heard}</span>}
    </div>
  );
}

function Last({ source, hands, at, level, style, place, sorted, pictured, pull }: HeadProps & {
  sorted: Props["sorted"]; pictured: number; pull(event: PointerEvent): void;
}) {
  const own = source.column(at);
  const isSorted = sorted !== null && sorted.column === at;
  const heading = source.heads(own.value);
  return (
    <div role="columnheader" class={`cell head ${at === pictured ? "pictured" : ""}`} style={style} aria-colindex={place + 2}
      aria-sort={isSorted ? (sorted.down ? "descending" : "ascending") : "none"}>
      <button class="about" aria-label={`About ${heading}`} onClick={() => hands.about(own.value)}>?</button>
      <button class="order" title={hands.head ? undefined : "Order by this column"}
        onClick={(event) => (hands.head ? hands.head(at, level, event.currentTarget) : hands.order(at))}>
        {isSorted ? (sorted.down ? "↓ " : "↑ ") : ""}{own.labels[level]?.t || heading}</button>
      <i class="pull" onPointerDown={pull} />
    </div>
  );
}

interface RowProps {
  source: Source; hands: Hands; at: number; number: number; shown: number[]; starts: number[]; widths: number[];
  total: number; active: number | null; chosen: [number, number][]; pick(column: number): void;
}

/** A line, drawn again only where it has changed: while a grid is scrolled, most have not. */
class Row extends Component<RowProps> {
  override shouldComponentUpdate(next: RowProps): boolean {
    const own = this.props;
    return own.source !== next.source || own.at !== next.at || own.number !== next.number || own.shown !== next.shown ||
      own.starts !== next.starts || own.active !== next.active || own.chosen !== next.chosen;
  }

  override render(): ComponentChildren {
    return drawnRow(this.props);
  }
}

function drawnRow({ source, hands, at, number, shown, starts, widths, total, active, chosen, pick }: RowProps) {
  const row = source.line(at);
  const { parent, open } = row;
  return (
    <div role="row" class={`line ${row.k === "total" || row.total ? "total" : ""} ${row.k.replace(" ", "-")}`} aria-level={row.d + 1}
      aria-rowindex={number + source.depth + 1} aria-expanded={parent ? open : undefined}
      style={{ top: `${(number + source.depth) * LINE}px`, width: `${total}px` }}>
      <div role="rowheader" id={cellName(number, -1)} class={`cell first ${active === -1 ? "active" : ""}`} title={row.t}
        aria-colindex={1} style={{ paddingLeft: `${8 + row.d * 16}px` }}
        onClick={(event) => {
          pick(-1);
          if (!(event.target instanceof Element && event.target.closest(".fold"))) hands.line?.(at, event.currentTarget);
        }}>
        {parent ? <button class="fold" tabIndex={-1} aria-label={`${open ? "Close" : "Open"} ${row.t}`}
          onClick={() => hands.fold(at)}>{open ? "▾" : "▸"}</button> : <i class="fold" />}
        <Looked looks={source.looks} look={row.l} text={row.t} />
      </div>
      {shown.map((place) => {
        const column = source.columns[place] ?? 0;
        const cell = source.cell(at, column);
        const style = { left: `${starts[place]}px`, width: `${widths[place]}px` };
        const marked = chosen.findIndex(([line, top]) => line === at && top === column);
        const names = ["cell", active === place ? "active" : "", cell?.struck ? "struck" : "", marked >= 0 ? "chosen" : "",
          source.column(column).total ? "total" : "", cell === null ? "waiting" : cell.kind];
        return (
          <div role="gridcell" id={cellName(number, place)} class={names.filter(Boolean).join(" ")} style={style}
            onMouseDown={(event) => event.shiftKey && event.preventDefault()}
            aria-colindex={place + 2} aria-selected={marked >= 0 ? true : undefined} title={cell?.struck || undefined}
            onClick={(event) => {
              pick(place);
              hands.cell?.(at, column, event.shiftKey);
            }}>
            {cell === null || cell.text === null ? "" : <Looked looks={source.looks} look={cell.look} text={cell.text} />}
            {cell?.struck && <span class="hidden"> struck out: {cell.struck}</span>}
          </div>
        );
      })}
    </div>
  );
}

/** A text in the look that it has. */
export function Looked({ looks, look, text }: { looks: (Look | null)[]; look: number; text: string }): ComponentChildren {
  const own = look ? looks[look] : null;
  if (!own) return <span>{text}</span>;
  const style: Record<string, string | number> = {};
  if (own.colour) Object.assign(style, { "--c-light": own.colour[0], "--c-dark": own.colour[1] });
  if (own.fill) Object.assign(style, { "--f-light": own.fill[0], "--f-dark": own.fill[1] });
  if (own.bold !== null) style.fontWeight = own.bold ? 700 : 400;
  const bar = own.bar && { left: `${own.bar[0] * 100}%`, width: `${(own.bar[1] - own.bar[0]) * 100}%`,
    "--f-light": own.barPaint?.[0] ?? "", "--f-dark": own.barPaint?.[1] ?? "" };
  return (
    <Fragment>
      {bar && <span class="track"><i class="bar filled" style={bar} /></span>}
      <span class={`look ${own.colour ? "coloured" : ""} ${own.fill ? "filled" : ""}`} style={style}>
        {own.mark && text ? `${own.mark} ${text}` : text}</span>
    </Fragment>
  );
}
