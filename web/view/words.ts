// What the words of a sentence are called: short, as a person would say them.

import type { FieldWords, FilterWords, Names, Order, Part, ValueWords } from "./types";

/** What a column, measure or formula is called. */
export function called(names: Names, text: string): string {
  const measure = names.measures.find((each) => each.name === text);
  if (measure) return measure.label;
  for (const table of names.tables) {
    const column = table.columns.find((each) => each.name === text);
    if (column) return column.label;
  }
  return text;
}

export function aboutOf(names: Names, text: string): string {
  const measure = names.measures.find((each) => each.name === text);
  if (measure) return [measure.formula, measure.about].filter(Boolean).join("\n");
  const hierarchy = names.hierarchies.find((each) => each.name === text);
  if (hierarchy) return `hierarchy: ${hierarchy.levels.join(", ")}`;
  for (const table of names.tables) {
    const column = table.columns.find((each) => each.name === text);
    if (column) return `${column.name}, ${column.type}${column.about ? `\n${column.about}` : ""}`;
  }
  return text;
}

export function typeOf(names: Names, text: string): string {
  for (const table of names.tables) {
    const column = table.columns.find((each) => each.name === text);
    if (column) return column.type;
  }
  return "";
}

const ordered = (names: Names, by: Order[]) =>
  by.map((each) => `${called(names, each.formula)}${each.descending ? " desc" : ""}`).join(", ");

export interface Said { main: string; rest: string }

export function fieldSaid(names: Names, words: FieldWords): Said {
  const rest = [];
  if (words.upto) rest.push(`to ${called(names, words.upto)}`);
  if (words.by.length) rest.push(`by ${ordered(names, words.by)}`);
  if (words.best) {
    rest.push(`${words.best.edge} ${words.best.number}${words.best.by.length ? ` by ${ordered(names, words.best.by)}` : ""}`);
    if (words.others) rest.push("with others");
  }
  if (words.total !== null) rest.push(words.total === "none" ? "no total" : `total ${words.total}`);
  if (words.closing) rest.push(words.closing);
  return { main: words.label || called(names, words.field), rest: rest.join(" ") };
}

export function valueSaid(names: Names, words: ValueWords): Said {
  const { scale, ...others } = words.options;
  const rest = [...(scale ? [`in ${scale}`] : []), ...Object.entries(others).map(([word, value]) => `${word} ${value}`)];
  return { main: words.label || called(names, words.formula), rest: rest.join(" ") };
}

const MOST_NAMED = 3;
const bare = (key: string) => key.replace(/^date '(.*)'$/, "$1").replace(/^'(.*)'$/, "$1").replaceAll("''", "'");

export function filterSaid(names: Names, words: FilterWords): Said {
  const { choice } = words;
  if (choice === null) return { main: words.text, rest: "" };
  const own = choice.members.filter((each) => each !== "null" && each !== "no match");
  const listed = own.length ? own : choice.members;
  const members = listed.length > MOST_NAMED ? `${listed.length} members` : listed.map(bare).join(", ");
  return { main: called(names, words.column), rest: `${choice.rest ? "≠" : "="} ${members || "none"}` };
}

/** The words before each part of a sentence. */
export const BEFORE: Record<Part, string> = { values: "", rows: "by", columns: "across", where: "where", keep: "keep" };
export const ADDING: Record<Part, string> = {
  values: "Add a value", rows: "Add a row field", columns: "Add a column field", where: "Add a filter",
  keep: "Add a keep: members by their values",
};
export const PARTS: Part[] = ["values", "rows", "columns", "where", "keep"];
