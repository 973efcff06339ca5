// Writes numbers as the page does: a list of values and shapes in a file, their texts on standard output.

import process from "node:process";
import { readFileSync } from "node:fs";
import { exact } from "../src/exact.js";
import { written } from "../src/format.js";

const asked = JSON.parse(readFileSync(process.argv[2], "utf8"));
const texts = asked.map(({ digits, scale, float, shape }) => written(digits === undefined ? float : exact(digits, scale), shape));
process.stdout.write(JSON.stringify(texts));
