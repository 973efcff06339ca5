// What the live page works out by itself: names, completions, ticks, the trail, and which cells it fetches.

import assert from "node:assert/strict";
import { test } from "node:test";
import { Refused, type Asking, type Host } from "../view/host.ts";
import { LiveGrid } from "../view/livegrid.ts";
import { flipped } from "../view/memberlist.tsx";
import { ListTrail } from "../view/trail.ts";
import { completions, pointed } from "../view/typed.tsx";
import type { LineHead, Message, Names, Parts, Shown } from "../view/types.ts";
import { called, fieldSaid, filterSaid, valueSaid } from "../view/words.ts";
import { plainField, plainValue } from "../view/compose.ts";

const names: Names = {
  tables: [{ name: "sales", about: "", rows: 3, columns: [
    { name: "sales.region", short: "region", label: "Region", type: "text", about: "" },
    { name: "sales.sold_on", short: "sold_on", label: "sold on", type: "date", about: "" }] }],
  measures: [{ name: "revenue", label: "Revenue", about: "", formula: "sum(sales.x)", format: "" }],
  hierarchies: [], pivots: [], functions: [{ name: "round", signature: "round(x, digits)", about: "" }],
};

test("words are called as people call them", () => {
  assert.equal(called(names, "sales.region"), "Region");
  assert.equal(called(names, "band(sales.x by 10)"), "band(sales.x by 10)");
  assert.deepEqual(fieldSaid(names, { ...plainField("sales.region"), by: [{ formula: "revenue", descending: true }], total: "none" }),
    { main: "Region", rest: "by Revenue desc no total" });
  assert.deepEqual(valueSaid(names, { ...plainValue("revenue"), options: { scale: "thousands", format: "0" } }), { main: "Revenue", rest: "in thousands format 0" });
  const filter = (rest: boolean, members: string[]) => filterSaid(names, { text: "", loose: false, column: "sales.region", choice: { rest, members } }).rest;
  assert.equal(filter(false, ["'North'"]), "= North");
  assert.equal(filter(true, ["'O''Hara'", "null", "no match"]), "≠ O'Hara");
  assert.equal(filter(false, ["'a'", "'b'", "'c'", "'d'"]), "= 4 members");
  assert.equal(filter(false, []), "= none");
});

test("completions begin with what is typed, and end where the caret is", () => {
  const found = completions(names, "values rev", 10);
  assert.deepEqual([found.from, found.found[0]?.word], [7, "revenue"]);
  assert.equal(completions(names, "va", 2).found[0]?.word, "values");
  assert.ok(completions(names, "rows region", 11).found.some((each) => each.word === "sales.region"));
  assert.deepEqual(completions(names, "rows 'x", 5).found, []);
});

test("a fault is pointed at in its line", () => {
  assert.equal(pointed("values m\nrows a.bb", 14, 18), "rows a.bb\n     ^^^^");
  assert.equal(pointed("abc", 3, 3), "abc\n   ^");
});

test("a tick turns one member round", () => {
  assert.deepEqual(flipped(null, "'a'"), { rest: true, members: ["'a'"] });
  assert.deepEqual(flipped({ rest: true, members: ["'a'"] }, "'a'"), { rest: true, members: [] });
  assert.deepEqual(flipped({ rest: false, members: ["'a'"] }, "'b'"), { rest: false, members: ["'a'", "'b'"] });
});

const parts = (value: string): Parts => ({
  rows: [], columns: [], values: [value], where: "", keep: "", totals: true, show_empty: false, values_on: "columns", style: [],
});

test("a trail goes back and forth, and a new request ends what was ahead", () => {
  const seen: string[] = [];
  const trail = new ListTrail((request) => seen.push(request.values[0]!));
  for (const each of ["a", "b", "b", "c"]) trail.push(parts(each));
  trail.back();
  trail.back();
  assert.equal(trail.canBack(), false);
  trail.back();
  trail.forward();
  trail.push(parts("d"));
  assert.deepEqual([seen, trail.canForward(), trail.canBack()], [["b", "a", "b"], false, true]);
});

/** A host that answers blocks with the numbers of their cells. */
class Counting implements Host {
  addressed = false;
  asked: Message[] = [];
  ask<T>(message: Message): Asking<T> {
    this.asked.push(message);
    const [[top, low], [left, right]] = [message.rows, message.columns] as [[number, number], [number, number]];
    const texts = [];
    for (let row = top; row < low; row += 1) for (let column = left; column < right; column += 1) texts.push(`${row},${column}`);
    return { number: 1, answer: Promise.resolve({ rows: [top, low], columns: [left, right], texts, styled: {}, kinds: {} } as T) };
  }
}

function heads(depths: number[], columns: number): Shown {
  const rows: LineHead[] = depths.map((d, at) => ({ t: `m${at % 3}`, d, k: "member", v: -1, l: 0, total: false, cells: true, can: "member" }));
  return {
    rows, columns: [...Array(columns).keys()].map((at) => ({ labels: [{ t: `c${at}`, c: at, l: 0 }], v: 0, total: false, w: 6, can: "member" })),
    depth: 1, heading: "h", headWidth: 5, values: [{ heading: "v", label: "v", formula: "v", about: "" }],
    fields: { rows: [], columns: [] }, filters: [], notes: [], legend: [], looks: [null],
  };
}

test("cells are fetched once, where they are seen, and are in their places", async () => {
  const host = new Counting();
  let drawn = 0;
  const grid = new LiveGrid(host, 7, heads(Array(500).fill(0), 60), () => { drawn += 1; });
  assert.equal(grid.cell(3, 2), null, "it is on its way");
  grid.fetch([0, 40], [0, 10]);
  grid.fetch([0, 40], [0, 10]);
  grid.fetch([230, 250], [20, 30]);
  await Promise.resolve();
  await Promise.resolve();
  assert.equal(host.asked.length, 5);
  assert.equal(grid.cell(3, 2)?.text, "3,2");
  assert.equal(grid.cell(241, 25)?.text, "241,25");
  assert.equal(drawn, 5);
});

test("folded members hide what is under them", () => {
  const grid = new LiveGrid(new Counting(), 1, heads([0, 1, 2, 2, 1, 0, 1], 2), () => undefined);
  assert.deepEqual(grid.lines(new Set()), [0, 1, 2, 3, 4, 5, 6]);
  assert.deepEqual(grid.lines(new Set([grid.name(1)])), [0, 1, 4, 5, 6]);
  assert.deepEqual(grid.lines(new Set([grid.name(0)])), [0, 5, 6]);
  assert.equal(grid.isParent(4), false);
});

test("the grid as text has its heads, and a line for each row", async () => {
  const text = await new LiveGrid(new Counting(), 1, heads([0, 1], 2), () => undefined).asText(new Set());
  assert.equal(text, "h\tc0\tc1\nm0\t0,0\t0,1\n  m1\t1,0\t1,1");
});

test("a refusal says why", () => {
  const error = new Refused({ reason: "no", fix: "yes", text: "", start: 0, stop: 0, stopped: false });
  assert.equal(error.message, "no");
});
