// What the page shows when members are chosen: cases in a file, for each its lines and cells on standard output.
// A choice is [whether the rest stays, the members that do otherwise].

import process from "node:process";
import { readFileSync } from "node:fs";
import { Table } from "../src/table.js";

const cases = JSON.parse(readFileSync(process.argv[2], "utf8"));
const found = cases.map(({ page, chosen, grid }) => {
  const table = new Table({ ...page, ...page.grids[grid] });
  const choices = Object.entries(chosen).map(([field, [rest, except]]) => [field, { rest, except: new Set(except) }]);
  const state = { chosen: Object.fromEntries(choices), closed: new Set(), sort: null };
  const columns = table.visibleColumns(state);
  return table.visible(state).map((at) => ({
    path: table.grid.rows[at].p,
    cells: columns.map((column) => {
      const { text, struck } = table.cell(at, column, state);
      return { column: table.grid.columns[column].p, value: table.grid.columns[column].v, text, struck };
    }),
  }));
});
process.stdout.write(JSON.stringify(found));
