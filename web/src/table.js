// What the page shows of a grid: which lines are open, in which order, which members are chosen, and what totals are then.

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

/** Whether every member on a line's path is chosen. */
function chosenPath(path, fields, chosen) {
  return path.every((code, at) => chosen[fields[at]] === undefined || chosen[fields[at]].has(code));
}

function extends_(path, outer) {
  return outer.length <= path.length && outer.every((code, at) => code === path[at]);
}

/** A grid with what a person chose of it; made anew for each grid, asked for each change. */
export class Table {
  constructor(grid) {
    this.grid = grid;
    this.children = tree(grid.rows);
    this.rowLeaves = leaves(grid.rows.map((row) => row.p));
    this.columnLeaves = leaves(grid.columns.map((column) => column.p));
    this.cache = new Map();
    this.found = new Map();
    this.chosen = null;
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
    const { columns, columnFields } = this.grid;
    return columns.map((_, at) => at).filter((at) => chosenPath(columns[at].p, columnFields, state.chosen));
  }

  sorted(parent, state) {
    const { rows, rowFields } = this.grid;
    const own = this.children.get(parent).filter((at) => chosenPath(rows[at].p, rowFields, state.chosen) &&
      (rows[at].p.length > 0 || rows[at].d > 0 || this.anyLeft(state)));
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

  anyLeft(state) {
    return this.grid.rows.some((row) => row.p.length && chosenPath(row.p, this.grid.rowFields, state.chosen));
  }

  remember(state) {
    // What is chosen is another object whenever it is another choice.
    if (state.chosen !== this.chosen) {
      this.chosen = state.chosen;
      this.cache.clear();
      this.found.clear();
    }
  }

  /** One cell as shown: its text, number and look; struck out, with the reason, where it cannot be told any more. */
  cell(row, column, state) {
    this.remember(state);
    const place = row * this.grid.columns.length + column;
    const { texts, numbers, looks } = this.grid;
    const given = { text: texts[place], number: numbers[place], look: looks[place] ?? 0, struck: "" };
    if (Object.keys(state.chosen).length === 0 || given.text === null) return given;
    if (!this.cache.has(place)) this.cache.set(place, this.chosenCell(row, column, state, given));
    return this.cache.get(place);
  }

  once(name, make) {
    if (!this.found.has(name)) this.found.set(name, make());
    return this.found.get(name);
  }

  chosenCell(row, column, state, given) {
    const { rows, columns, rowFields, columnFields, values } = this.grid;
    const left = this.once(`r${rows[row].p}`, () => this.left(rows[row].p, this.rowLeaves, rowFields, state));
    const top = this.once(`c${columns[column].p}`, () => this.left(columns[column].p, this.columnLeaves, columnFields, state));
    if (left.whole && top.whole) return given;
    const number = columns[column].v >= 0 ? columns[column].v : rows[row].v;
    const value = values[Math.max(number, 0)];
    const deep = left.deep ?? top.deep;
    if (deep !== undefined) {
      return { ...given, number: null, struck: `members of ${this.grid.fields[deep].label} are closed here` };
    }
    const narrowed = [...left.fields, ...top.fields];
    if (!value.recipe) return { ...given, number: null, struck: value.reason };
    const wrong = narrowed.find((field) => !value.fields.includes(field));
    if (wrong !== undefined) {
      return { ...given, number: null, struck: `${value.heading} does not add up over ${this.grid.fields[wrong].label}` };
    }
    const parts = this.grid.parts.map((part, at) => value.uses.includes(at)
      ? merged(part.merge, this.partsOf(at, left.lines, top.lines)) : null);
    const found = cook(value.recipe, parts);
    const text = written(found, value.shape);
    return { text, number: found === null ? null : toFloat(found), look: given.look, struck: "" };
  }

  * partsOf(at, lines, tops) {
    const { parts, width } = this.grid;
    const { numbers, scale, float } = parts[at];
    for (const line of lines) {
      for (const top of tops) {
        const number = numbers[line * width + top];
        yield number === null || number === undefined ? null : float ? number : exact(number, scale);
      }
    }
  }

  /** What a line is put together from: places among the parts, and the fields over whose members they are added up. */
  left(path, { every, places }, fields, state) {
    const own = every.filter((leaf) => extends_(leaf.path, path));
    const deep = fields.find((field, at) => state.chosen[field] !== undefined && own.some((leaf) => leaf.path.length <= at));
    if (deep !== undefined && path.length < fields.length) return { whole: false, fields: [], lines: [], deep };
    const chosen = own.filter((leaf) => chosenPath(leaf.path, fields, state.chosen));
    // A line of which nothing is left out stands for itself; another is put together over all that lies under it.
    if (chosen.length === own.length) return { whole: true, fields: [], lines: [places.get(path.join(","))] };
    return { whole: false, fields: fields.slice(path.length), lines: chosen.map((leaf) => leaf.at) };
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

/** The lines that no other lies under, and the place of each path among the parts. */
function leaves(paths) {
  const found = new Map();
  paths.forEach((path) => {
    const key = path.join(",");
    if (!found.has(key)) found.set(key, { path, at: found.size });
  });
  const every = [...found.values()];
  const outer = new Set(every.filter((leaf) => leaf.path.length).map((leaf) => leaf.path.slice(0, -1).join(",")));
  every.forEach((leaf) => {
    for (let length = 0; length < leaf.path.length; length += 1) outer.add(leaf.path.slice(0, length).join(","));
  });
  return {
    every: every.filter((leaf) => !outer.has(leaf.path.join(",")) || every.length === 1),
    places: new Map([...found].map(([key, leaf]) => [key, leaf.at])),
  };
}
