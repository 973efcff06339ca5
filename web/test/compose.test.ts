// A sentence put together from its words, as text and as an address.

import assert from "node:assert/strict";
import { test } from "node:test";
import { added, fieldText, fromAddress, moved, plainField, plainValue, quoted, removed, replaced, toAddress, turned, valueText, written }
  from "../view/compose.ts";
import type { FieldWords, Parts, Words } from "../view/types.ts";

const request: Parts = {
  rows: ["a.b", "a.c"], columns: ["a.d"], values: ["m"], where: "a.b = 1 or a.c = 2", keep: "p where m > 1", totals: true,
  show_empty: false, values_on: "columns", style: [],
};
const words: Words = {
  values: [plainValue("m")], rows: [plainField("a.b"), plainField("a.c")], columns: [plainField("a.d")],
  where: [{ text: "a.b = 1 or a.c = 2", loose: true, column: "", choice: null }], keep: ["p where m > 1"],
};

test("a field has its options in the order in which they are written", () => {
  const field: FieldWords = {
    text: "", label: "my label", field: "a.b", upto: "", by: [{ formula: "m", descending: true }],
    best: { edge: "top", number: 3, by: [{ formula: "n", descending: false }, { formula: "k", descending: true }] },
    others: true, total: "none", closing: "open ('x')",
  };
  assert.equal(fieldText(field), `"my label": a.b by m desc top 3 by (n, k desc) with others no total open ('x')`);
  assert.equal(fieldText({ ...plainField("range"), upto: "a.b", total: "before", closing: "closed" }), "range to a.b total before closed");
  assert.equal(fieldText({ ...plainField("a.b"), by: [{ formula: "m", descending: false }, { formula: "n", descending: true }] }), "a.b by (m, n desc)");
  assert.equal(fieldText({ ...plainField("a.b"), others: true }), "a.b", "others need a top");
});

test("a value has its label and options, texts in quotes", () => {
  assert.equal(valueText({ text: "", label: "r", formula: "m / n", options: { format: "0.0'%'", digits: 3, scale: "" } }),
    "r: m / n format '0.0''%''' digits 3");
  assert.equal(valueText({ ...plainValue("m"), label: "m" }), "m");
});

test("names are quoted where they must be", () => {
  assert.deepEqual(["a_1", "A", "a b", 'a"b'].map(quoted), ["a_1", '"A"', '"a b"', '"a""b"']);
});

test("a condition that could be torn is bracketed once something is added", () => {
  assert.equal(written(request, { where: words.where }).where, request.where);
  const two = added(request, words, "where", { text: "a.e = 3", loose: false, column: "a.e", choice: null });
  assert.equal(two.where, "(a.b = 1 or a.c = 2) and a.e = 3");
});

test("words move within their part, and between the axes", () => {
  assert.deepEqual(moved(request, words, { part: "rows", at: 0 }, { part: "rows", at: 1 }).rows, ["a.c", "a.b"]);
  assert.deepEqual(moved(request, words, { part: "rows", at: 0 }, { part: "rows", at: -4 }).rows, ["a.b", "a.c"]);
  const over = moved(request, words, { part: "rows", at: 1 }, { part: "columns", at: 0 });
  assert.deepEqual([over.rows, over.columns], [["a.b"], ["a.c", "a.d"]]);
  assert.equal(moved(request, words, { part: "values", at: 0 }, { part: "rows", at: 0 }), request, "a value is no field");
  assert.equal(moved(request, words, { part: "rows", at: 9 }, { part: "rows", at: 0 }), request);
});

test("words go, come and change", () => {
  assert.deepEqual(removed(request, words, "rows", 0).rows, ["a.c"]);
  assert.equal(removed(request, words, "where", 0).where, "");
  assert.equal(added(request, words, "keep", "top 3 q by m").keep, "p where m > 1, top 3 q by m");
  assert.deepEqual(replaced(request, words, "columns", 0, plainField("x.y")).columns, ["x.y"]);
});

test("turning twice is nothing", () => {
  assert.deepEqual(turned(turned(request)), request);
  assert.deepEqual(turned(request).rows, ["a.d"]);
});

test("an address holds the request, and nothing that it does not know", () => {
  assert.deepEqual(fromAddress(toAddress(request)), request);
  const odd = { ...request, where: "a = 'ö & # % \"'", totals: false };
  assert.deepEqual(fromAddress(toAddress(odd)), odd);
  for (const text of ["%", "", "3", "null", "[]", "token=x"]) assert.equal(fromAddress(text), null);
  const made = fromAddress(encodeURIComponent(JSON.stringify({ rows: "x", values: ["m"], other: 1, where: 3 })));
  assert.deepEqual(made, { ...request, rows: [], columns: [], where: "", keep: "" });
});
