// What the page shows of a grid: which lines are open, in which order, which members are chosen, and what totals are then.

import { OTHERS, part, ticked } from "./choice.js";
import { cook, exact, merged, toFloat } from "./exact.js";
import { written } from "./format.js";

const LAST = { others: 1, "no match": 2, total: 3 };

/** The children of each line: a line's number, -1 for the top, to the numbers of what lies right under it. */
export function tree(rows) {
  const children = new Map([[-1, []]]);
  const stack = [-1];
  rows.forEach((row, at) => {
    stack.length = row.d + 1;
    children.get(stack[row.d] ?? -1).push(at);
    children.set(at, []);
    stack[row.d + 1] = at;
  });
  return children;
}

/** One axis: its fields, its members in a tree, each with its place among the parts, and what tops hide under them. */
class Axis {
  constructor(fields, paths, unseen, hidden) {
    this.fields = fields;
    this.root = { path: [], children: new Map(), place: undefined };
    this.nodes = new Map([["", this.root]]);
    let places = 0;
    for (const path of [...paths, ...unseen]) {
      const node = this.node(path);
      node.place ??= places++;
    }
    this.hidden = new Map();
    fields.forEach((field) => (hidden[field] ?? []).forEach(([path, codes]) => {
      this.hidden.set(path.join(","), codes === null ? null : new Set(codes));
    }));
  }

  node(path) {
    const key = path.join(",");
    if (!this.nodes.has(key)) {
      const made = { path, children: new Map(), place: undefined };
      this.nodes.set(key, made);
      this.node(path.slice(0, -1)).children.set(path.at(-1), made);
    }
    return this.nodes.get(key);
  }

  /** Whether a choice may leave out anything that this grid has. */
  narrows(at, choice) {
    for (const { path, children } of this.nodes.values()) {
      if (path.length === at + 1 && path[at] !== OTHERS && !ticked(choice, path[at])) return true;
      // What is closed, or among others, may have members that are not chosen.
      if (path.length <= at && children.size === 0) return true;
    }
    return [...this.hidden].some(([path, codes]) => (path === "" ? 0 : path.split(",").length) === at && part(choice, codes) !== "all");
  }
}

/** A grid with what a person chose of it; made anew for each grid, asked for each change. */
export class Table {
  constructor(grid) {
    this.grid = grid;
    this.children = tree(grid.rows);
    this.rows = new Axis(grid.rowFields, grid.rows.map((row) => row.p), grid.unseenRows, grid.hidden);
    this.columns = new Axis(grid.columnFields, grid.columns.map((column) => column.p), grid.unseenColumns, grid.hidden);
    this.cells = new Map();
    this.covers = new Map();
    this.chosen = null;
    this.choice = {};
  }

  /** Which lines are shown, in order: open, chosen, sorted. */
  visible(state) {
    this.remember(state);
    const found = [];
    const walk = (parent) => {
      for (const at of this.sorted(parent, state)) {
        found.push(at);
        if (!state.closed.has(this.name(at))) walk(at);
      }
    };
    walk(-1);
    return found;
  }

  /** A line's name: the same in every grid of the page. */
  name(at) {
    const row = this.grid.rows[at];
    return `${row.p.join(",")};${row.v}`;
  }

  /** Which columns are shown. */
  visibleColumns(state) {
    this.remember(state);
    const { columns } = this.grid;
    return columns.map((_, at) => at).filter((at) => this.isLeft(this.columns, columns[at].p));
  }

  sorted(parent, state) {
    const { rows } = this.grid;
    const own = this.children.get(parent).filter((at) => this.isLeft(this.rows, rows[at].p));
    if (state.sort === null) return own;
    const { column, down } = state.sort;
    const weight = (at) => LAST[rows[at].k] ?? 0;
    const number = (at) => {
      const value = this.cell(at, column, state).number;
      return value === null || value === undefined ? null : value;
    };
    return own
      .map((at, place) => ({ at, place, weight: weight(at), number: number(at) }))
      .sort((one, other) => one.weight - other.weight || missing(one, other) ||
        (down ? other.number - one.number : one.number - other.number) || one.place - other.place)
      .map((each) => each.at);
  }

  remember(state) {
    // What is chosen is another object whenever it is another choice.
    if (state.chosen !== this.chosen) {
      this.chosen = state.chosen;
      this.cells.clear();
      this.covers.clear();
      this.choice = {};
      for (const axis of [this.rows, this.columns]) {
        axis.fields.forEach((field, at) => {
          const choice = state.chosen[field];
          if (choice !== undefined && axis.narrows(at, choice)) this.choice[field] = choice;
        });
      }
    }
  }

  /** Whether anything of a line is chosen. */
  isLeft(axis, path) {
    const { lines, why, gone } = this.cover(axis, path);
    return !gone && (why !== undefined || lines.length > 0);
  }

  /** One cell as shown: its text, number and look; struck out, with the reason, where it cannot be told any more. */
  cell(row, column, state) {
    this.remember(state);
    const place = row * this.grid.columns.length + column;
    const { texts, numbers, styled } = this.grid;
    const given = { text: texts[place], number: numbers[place], look: styled[place] ?? 0, struck: "" };
    if (Object.keys(this.choice).length === 0 || given.text === null) return given;
    if (!this.cells.has(place)) this.cells.set(place, this.chosenCell(row, column, given));
    return this.cells.get(place);
  }

  chosenCell(row, column, given) {
    const { rows, columns, rowFields, values, fields } = this.grid;
    const left = this.cover(this.rows, rows[row].p);
    const top = this.cover(this.columns, columns[column].p);
    const value = values[Math.max(columns[column].v >= 0 ? columns[column].v : rows[row].v, 0)];
    const struck = (why) => ({ ...given, number: null, look: 0, struck: why });
    if (left.why ?? top.why) return struck(left.why ?? top.why);
    if (left.whole && top.whole) {
      const innermost = value.innermost ? rowFields[rows[row].p.length - 1] : undefined;
      const beside = Object.keys(this.choice).map(Number).find((field) => value.beside.includes(field) || field === innermost);
      return beside === undefined ? given
        : struck(`${value.heading} compares members of ${fields[beside].label}, and some are not chosen`);
    }
    if (!value.recipe) return struck(value.reason);
    const narrowed = [...left.fields, ...top.fields];
    const wrong = narrowed.find((field) => !value.fields.includes(field));
    if (wrong !== undefined) return struck(`${value.heading} does not add up over ${fields[wrong].label}`);
    const parts = this.grid.parts.map((part_, at) => value.uses.includes(at)
      ? merged(part_.merge, this.partsOf(at, left.lines, top.lines)) : null);
    const found = cook(value.recipe, parts);
    return { text: written(found, value.shape), number: found === null ? null : toFloat(found), look: 0, struck: "" };
  }

  * partsOf(at, lines, tops) {
    const { parts, width } = this.grid;
    const { numbers, scale, float } = parts[at];
    for (const line of lines) {
      for (const top of tops) {
        const number = numbers[line.place * width + top.place];
        yield number === null || number === undefined ? null : float ? number : exact(number, scale);
      }
    }
  }

  /** What a line comes to as chosen: lines of the grid that it is put together from, or why it cannot be told.
   *
   * "whole" says that nothing of it is left out, "fields" over whose members it is put together, and "gone" that it is not chosen itself.
   */
  cover(axis, path) {
    const key = `${axis === this.rows ? "r" : "c"}${path.join(",")}`;
    if (!this.covers.has(key)) this.covers.set(key, this.covered(axis, axis.node(path)));
    return this.covers.get(key);
  }

  covered(axis, node) {
    const { path } = node;
    const { fields } = axis;
    const label = (field) => this.grid.fields[field].label;
    const told = (lines, whole) => ({
      whole, lines, gone: false,
      fields: whole ? [] : fields.slice(path.length, Math.max(...lines.map((line) => line.path.length), 0)),
    });
    for (let at = 0; at < path.length; at += 1) {
      const choice = this.choice[fields[at]];
      const under = axis.hidden.get(path.slice(0, at).join(","));
      const some = path[at] !== OTHERS ? (ticked(choice, path[at]) ? "all" : "none")
        : under === undefined ? "all" : part(choice, under);
      if (some === "none") return { gone: true, lines: [], fields: [], whole: false };
      if (some === "some") return { gone: false, why: `some members in the others of ${label(fields[at])} are chosen, and some are not` };
    }
    const deeper = fields.slice(path.length).find((field) => this.choice[field] !== undefined);
    if (deeper === undefined && node.place !== undefined) return told([node], true);
    const under = axis.hidden.get(path.join(","));
    if (node.children.size === 0 && under === undefined) {
      if (path.length === fields.length) return told([node], true);
      return { gone: false, why: `members of ${label(deeper ?? fields[path.length])} are closed here` };
    }
    const field = fields[path.length];
    const parts = [...node.children.keys()].filter((code) => code !== OTHERS);
    if (under !== undefined) {
      if (part(this.choice[field], under) === "some") {
        return { gone: false, why: `some members of ${label(field)} that are not shown here are chosen, and some are not` };
      }
      parts.push(OTHERS);
    }
    let whole = true;
    const lines = [];
    for (const code of parts) {
      const inner = this.cover(axis, [...path, code]);
      if (inner.why !== undefined) return { gone: false, why: inner.why };
      whole &&= inner.whole;
      lines.push(...inner.lines);
    }
    if (lines.some((line) => line.place === undefined)) {
      return { gone: false, why: `members of ${label(field)} that are not shown are not in this page` };
    }
    return whole && node.place !== undefined ? told([node], true) : told(lines, whole);
  }

  /** All that is shown, as lines of texts with tabs between: what a spreadsheet takes. */
  asText(state) {
    const columns = this.visibleColumns(state);
    const depth = this.grid.heads;
    const lines = [];
    for (let level = 0; level < depth; level += 1) {
      const first = level === depth - 1 ? this.grid.heading : "";
      lines.push([first, ...columns.map((at) => this.grid.columns[at].labels[level]?.t ?? "")]);
    }
    for (const at of this.visible(state)) {
      const row = this.grid.rows[at];
      const cells = columns.map((column) => {
        const cell = this.cell(at, column, state);
        return cell.struck ? "" : cell.text ?? "";
      });
      lines.push(["  ".repeat(row.d) + row.t, ...cells]);
    }
    return lines.map((line) => line.map((text) => text.replace(/[\t\r\n]+/g, " ")).join("\t")).join("\n");
  }
}

function missing(one, other) {
  if (one.number === null || other.number === null) return (one.number === null) - (other.number === null);
  return 0;
}
