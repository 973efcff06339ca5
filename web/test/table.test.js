import assert from "node:assert/strict";
import { test } from "node:test";
import { add, cook, exact, less, merged, ofFloat, toFloat } from "../src/exact.js";
import { OTHERS, flipped, only, part, ticked } from "../src/choice.js";
import { Table, tree } from "../src/table.js";

const shape = {
  prefix: "", suffix: "", minus_prefix: "−", minus_suffix: "", decimal: ".", group: ",", groups: [3, 3], whole: 1, least: 0,
  most: 0, power: 0, percent: 0, significant: 0, zero: "", blank: "–",
};

/** Departments A (a, b) and B (c), by two years with a total; values: a sum, a rate of two sums, and a count of distinct. */
function made() {
  const rows = [["A", 0, [0]], ["a", 1, [0, 0]], ["b", 1, [0, 1]], ["B", 0, [1]], ["c", 1, [1, 2]], ["total", 0, []]]
    .map(([t, d, p]) => ({ t, d, p, k: p.length ? "member" : "total", v: -1 }));
  const tops = [[[0], "2023"], [[1], "2024"], [[], "total"]];
  const columns = tops.flatMap(([p, t]) => [0, 1, 2].map((v) => ({ labels: [{ t }, { t: `v${v}`, k: "value" }], p, v, total: !p.length, w: 5 })));
  const leaf = { "0,0": [1, 2], "0,1": [3, null], "1,2": [5, 6] };
  const sum = (row, top) => {
    const found = Object.entries(leaf).filter(([key]) => key.startsWith(row.join(","))).flatMap(([, pair]) => (top.length ? [pair[top[0]]] : pair))
      .filter((each) => each !== null);
    return found.length ? found.reduce((one, other) => one + other) : null;
  };
  const numbers = rows.map((row) => tops.map(([p]) => sum(row.p, p)));
  const cells = numbers.flatMap((line) => line.flatMap((each) => [each, each === null ? null : 1, each]));
  return {
    rows, columns, heads: 2, heading: "dept / item", headWidth: 8, width: 3, rowFields: [0, 1], columnFields: [2],
    unseenRows: [], unseenColumns: [], hidden: {},
    fields: [{ label: "dept" }, { label: "item" }, { label: "year" }], numbers: cells, styled: {},
    texts: cells.map((each) => (each === null ? "–" : String(each))),
    parts: [0, 1].map(() => ({ merge: "sum", scale: 0, float: false, numbers: numbers.flat() })),
    values: [
      { heading: "sum", recipe: ["part", 0], uses: [0], fields: [0, 1, 2], beside: [], shape },
      { heading: "rate", recipe: ["/", ["part", 0], ["part", 1]], uses: [0, 1], fields: [0, 1], beside: [], shape },
      { heading: "distinct", recipe: null, uses: [], fields: [], beside: [], reason: "distinct: does not add up", shape },
    ],
  };
}

const state = (part = {}) => ({ chosen: {}, closed: new Set(), sort: null, ...part });
const names = (table, of) => table.visible(of).map((at) => table.grid.rows[at].t);

test("members open and close", () => {
  const table = new Table(made());
  assert.deepEqual(tree(table.grid.rows).get(-1), [0, 3, 5]);
  assert.deepEqual(names(table, state()), ["A", "a", "b", "B", "c", "total"]);
  assert.deepEqual(names(table, state({ closed: new Set([table.name(0)]) })), ["A", "B", "c", "total"]);
});

test("lines are ordered within what they lie in, nulls and totals last", () => {
  const table = new Table(made());
  assert.deepEqual(names(table, state({ sort: { column: 0, down: true } })), ["B", "c", "A", "b", "a", "total"]);
  assert.deepEqual(names(table, state({ sort: { column: 3, down: false } })), ["A", "a", "b", "B", "c", "total"]);
});

const CHOSEN = [
  ["nothing chosen", {}, [5, 6], ["17", "1", "17"]],
  ["one item of a department", { 1: only([0, 2]) }, [5, 6], ["14", "1", "17"], ["", "", "distinct: does not add up"]],
  ["a whole department", { 0: only([1]) }, [5, 6], ["11", "1", "17"], ["", "", "distinct: does not add up"]],
  ["one year", { 2: only([1]) }, [5, 6], ["8", "1", "17"], ["", "rate does not add up over year", "distinct: does not add up"]],
];

for (const [what, chosen, [row, column], texts, struck] of CHOSEN) {
  test(`totals over chosen members are put together or struck out: ${what}`, () => {
    const table = new Table(made());
    const cells = [0, 1, 2].map((value) => table.cell(row, column + value, state({ chosen })));
    assert.deepEqual(cells.map((cell) => cell.text), texts);
    assert.deepEqual(cells.map((cell) => cell.struck), struck ?? ["", "", ""]);
  });
}

/** Sales of four items, of which a top shows two; the others, c and d, hold 5 and 6. */
function topped({ shown }) {
  const lines = [["a", [0], 9], ["b", [1], 8], ["total", [], 28]];
  if (shown) lines.splice(2, 0, ["others", [OTHERS], 11]);
  const numbers = [...lines.map(([, , number]) => number), ...(shown ? [] : [11])];
  return {
    rows: lines.map(([t, p]) => ({ t, d: 0, p, k: p.length ? (p[0] === OTHERS ? "others" : "member") : "total", v: -1 })),
    columns: [{ labels: [{ t: "v" }], p: [], v: 0, total: false, w: 5 }], heads: 1, heading: "item", headWidth: 8, width: 1,
    rowFields: [0], columnFields: [], unseenRows: shown ? [] : [[OTHERS]], unseenColumns: [], hidden: { 0: [[[], [2, 3]]] },
    fields: [{ label: "item" }], numbers: lines.map(([, , number]) => number), styled: {}, texts: lines.map(([, , number]) => String(number)),
    parts: [{ merge: "sum", scale: 0, float: false, numbers }],
    values: [{ heading: "v", recipe: ["part", 0], uses: [0], fields: [0], beside: [], shape }],
  };
}

const SOME = "some members of item that are not shown here are chosen, and some are not";
const TOPPED = [
  ["a shown member is unticked", flipped(undefined, 0, [0, 1]), "19", "11"],
  ["only a shown member", only([1]), "8", undefined],
  ["a member among the others is unticked", flipped(undefined, 2, [0, 1, 2]), SOME, "some members in the others of item are chosen, and some are not"],
  ["only a member among the others", only([0, 3]), SOME, "some members in the others of item are chosen, and some are not"],
  ["the others are unticked", flipped(undefined, OTHERS, [0, 1, OTHERS]), "17", undefined],
  ["a member that this grid has not is unticked", flipped(undefined, 7, [0, 1, 7]), "28", "11"],
];

for (const [what, choice, total, others] of TOPPED) {
  test(`what a top hides counts as it is chosen: ${what}`, () => {
    const of = state({ chosen: { 0: choice } });
    for (const shown of [true, false]) {
      const table = new Table(topped({ shown }));
      const cell = (name) => {
        const at = table.visible(of).find((line) => table.grid.rows[line].t === name);
        return at === undefined ? undefined : table.cell(at, 0, of);
      };
      assert.equal(cell("total").struck || cell("total").text, total);
      const seen = cell("others");
      assert.equal(seen?.struck || seen?.text, shown ? others : undefined);
    }
  });
}

test("a value beside other members is struck out where some of them are not chosen", () => {
  const grid = made();
  grid.values[2] = { ...grid.values[2], beside: [1] };
  grid.values[1] = { ...grid.values[1], innermost: true };
  const table = new Table(grid);
  const struck = (row, column, chosen) => table.cell(row, column, state({ chosen })).struck;
  assert.equal(struck(1, 2, { 1: only([0]) }), "distinct compares members of item, and some are not chosen");
  assert.equal(struck(1, 1, { 1: only([0]) }), "rate compares members of item, and some are not chosen");
  assert.equal(struck(3, 1, { 0: only([1]) }), "rate compares members of dept, and some are not chosen");
  assert.equal(struck(4, 1, { 0: only([1]) }), "", "a share of its department");
  assert.equal(struck(1, 0, { 1: only([0]) }), "");
});

test("choices are made member by member", () => {
  const every = [0, 1, 2, OTHERS];
  const less = flipped(undefined, 1, every);
  assert.deepEqual(every.map((code) => ticked(less, code)), [true, false, true, true]);
  assert.equal(flipped(less, 1, every), undefined);
  const rest = flipped(less, OTHERS, every);
  assert.deepEqual(every.map((code) => ticked(rest, code)), [true, false, true, false]);
  assert.deepEqual(flipped(rest, OTHERS, every), less);
  assert.deepEqual([part(less, new Set([1])), part(less, new Set([0, 1])), part(less, new Set([0])), part(less, null)], ["none", "some", "all", "some"]);
});

test("a line all of whose members are chosen stays as it was asked", () => {
  const table = new Table(made());
  const of = state({ chosen: { 1: only([0, 1]) } });
  assert.equal(table.cell(0, 2, of).struck, "");
  assert.deepEqual(names(table, of), ["A", "a", "b", "total"]);
  assert.deepEqual(names(table, state({ chosen: { 0: only([]) } })), []);
});

test("what lies closed cannot be chosen from", () => {
  const grid = made();
  grid.rows = [grid.rows[0], grid.rows[3], grid.rows[5]];
  const table = new Table(grid);
  assert.equal(table.cell(0, 0, state({ chosen: { 1: only([0]) } })).struck, "members of item are closed here");
});

test("columns are chosen, and all is copied as text", () => {
  const table = new Table(made());
  const of = state({ chosen: { 2: only([0]) }, closed: new Set([table.name(0), table.name(3)]) });
  assert.deepEqual(table.visibleColumns(of), [0, 1, 2, 6, 7, 8]);
  const lines = table.asText(of).split("\n");
  assert.equal(lines[0], "\t2023\t2023\t2023\ttotal\ttotal\ttotal");
  assert.equal(lines[1], "dept / item\tv0\tv1\tv2\tv0\tv1\tv2");
  assert.equal(lines[2], "A\t4\t1\t4\t4\t\t", "what is struck out is left out");
});

test("numbers are exact where they can be", () => {
  assert.deepEqual(add(exact("90071992547409931", 1), exact(1, 0)), { n: 90071992547409941n, s: 1 });
  assert.deepEqual(ofFloat(1.5e-7), { n: 15n, s: 8 });
  assert.deepEqual(ofFloat(-2.5e21), { n: -2500000000000000000000n, s: 0 });
  assert.equal(toFloat(exact(125, 2)), 1.25);
  assert.ok(less(exact(-1, 0), 0.5) && less(exact(10, 1), exact(11, 1)));
  assert.equal(merged("min", [null, exact(3, 0), exact(25, 1)]).n, 25n);
  assert.equal(merged("max", [null, 2, 5.5, 3]), 5.5);
  assert.equal(merged("sum", [null]), null);
  assert.equal(cook(["/", ["part", 0], ["number", 0]], [exact(1, 0)]), null);
  assert.equal(cook(["-", ["part", 0], ["negate", ["part", 0]]], [exact(4, 0)]).n, 8n);
  assert.equal(cook(["*", ["number", 0.5], ["part", 0]], [exact(3, 0)]), 1.5);
  assert.throws(() => cook(["power", ["number", 1]], []));
  assert.throws(() => merged("median", [1, 2]));
});
