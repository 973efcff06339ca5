// A request's words put together again: each option in the place where it is written.

import type { Axis, FieldWords, Order, Part, Parts, ValueWords, Words } from "./types";

const WORD = /^[a-z_][a-z0-9_]*$/;

/** A name as formulas spell it. */
export function quoted(name: string): string {
  return WORD.test(name) ? name : `"${name.replaceAll('"', '""')}"`;
}

function text(value: string): string {
  return `'${value.replaceAll("'", "''")}'`;
}

function orders(by: Order[]): string {
  const one = (each: Order) => each.formula + (each.descending ? " desc" : "");
  return by.length === 1 && by[0] ? one(by[0]) : `(${by.map(one).join(", ")})`;
}

/** The text of an axis field. */
export function fieldText(words: FieldWords): string {
  const parts = [words.label ? `${quoted(words.label)}: ${words.field}` : words.field];
  if (words.upto) parts.push(`to ${words.upto}`);
  if (words.by.length) parts.push(`by ${orders(words.by)}`);
  if (words.best) {
    parts.push(`${words.best.edge} ${words.best.number}`);
    if (words.best.by.length) parts.push(`by ${orders(words.best.by)}`);
    if (words.others) parts.push("with others");
  }
  if (words.total !== null) parts.push(words.total === "none" ? "no total" : `total ${words.total}`);
  if (words.closing) parts.push(words.closing);
  return parts.join(" ");
}

/** The text of a value. */
export function valueText(words: ValueWords): string {
  const label = words.label && words.label !== words.formula ? `${quoted(words.label)}: ` : "";
  const options = Object.entries(words.options).filter(([, value]) => value !== "" && value !== 0)
    .map(([word, value]) => `${word} ${typeof value === "number" ? value : text(value)}`);
  return [label + words.formula, ...options].join(" ");
}

/** A field without any option. */
export function plainField(field: string): FieldWords {
  return { text: field, label: "", field, upto: "", by: [], best: null, others: false, total: null, closing: "" };
}

export function plainValue(formula: string): ValueWords {
  return { text: formula, label: "", formula, options: {} };
}

/** The request with other words; what they do not say stays. */
export function written(request: Parts, words: Partial<Words>): Parts {
  const found = { ...request };
  if (words.values) found.values = words.values.map(valueText);
  if (words.rows) found.rows = words.rows.map(fieldText);
  if (words.columns) found.columns = words.columns.map(fieldText);
  if (words.where) {
    const several = words.where.length > 1;
    found.where = words.where.map((each) => (each.loose && several ? `(${each.text})` : each.text)).join(" and ");
  }
  if (words.keep) found.keep = words.keep.join(", ");
  return found;
}

function without<T>(list: T[], at: number): T[] {
  return list.filter((_, place) => place !== at);
}

function put<T>(list: T[], at: number, item: T): T[] {
  return [...list.slice(0, at), item, ...list.slice(at)];
}

/** The request without one of its words. */
export function removed(request: Parts, words: Words, part: Part, at: number): Parts {
  return written(request, { [part]: without<unknown>(words[part], at) });
}

/** The request with one word replaced. */
export function replaced(request: Parts, words: Words, part: Part, at: number, item: unknown): Parts {
  const list = words[part] as unknown[];
  return written(request, { [part]: list.map((each, place) => (place === at ? item : each)) });
}

/** The request with a word more. */
export function added(request: Parts, words: Words, part: Part, item: unknown): Parts {
  return written(request, { [part]: [...(words[part] as unknown[]), item] });
}

/** The request with a word in another place of its part, or on the other axis. */
export function moved(request: Parts, words: Words, from: { part: Part; at: number }, to: { part: Part; at: number }): Parts {
  const list = words[from.part] as unknown[];
  const item = list[from.at];
  if (item === undefined) return request;
  if (from.part === to.part) {
    const rest = without(list, from.at);
    return written(request, { [from.part]: put(rest, Math.max(0, Math.min(to.at, rest.length)), item) });
  }
  if (!isAxis(from.part) || !isAxis(to.part)) return request;
  const other = words[to.part] as unknown[];
  return written(request, {
    [from.part]: without(list, from.at), [to.part]: put(other, Math.max(0, Math.min(to.at, other.length)), item),
  });
}

export function isAxis(part: Part): part is Axis {
  return part === "rows" || part === "columns";
}

/** Rows and columns swapped, and the values' labels with them. */
export function turned(request: Parts): Parts {
  return {
    ...request, rows: request.columns, columns: request.rows, values_on: request.values_on === "rows" ? "columns" : "rows",
  };
}

const USUAL: Parts = {
  rows: [], columns: [], values: [], where: "", keep: "", totals: true, show_empty: false, values_on: "columns", style: [],
};

/** A request as the end of an address: only what it says. */
export function toAddress(request: Parts): string {
  const said = Object.entries(request).filter(([name, value]) =>
    JSON.stringify(value) !== JSON.stringify(USUAL[name as keyof Parts]));
  return encodeURIComponent(JSON.stringify(Object.fromEntries(said)));
}

/** The request in the end of an address; null where it is none. */
export function fromAddress(text: string): Parts | null {
  try {
    const said: unknown = JSON.parse(decodeURIComponent(text));
    if (typeof said !== "object" || said === null || Array.isArray(said)) return null;
    const known = Object.entries(said).filter(([name, value]) => {
      const usual = USUAL[name as keyof Parts];
      return usual !== undefined && typeof usual === typeof value && Array.isArray(usual) === Array.isArray(value);
    });
    return { ...USUAL, ...Object.fromEntries(known) };
  } catch {
    return null;
  }
}
