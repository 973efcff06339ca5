// Numbers in writing, in the same digits as the grid's own: the shape says how they are put together.

import { ofFloat } from "./exact.js";

/** A number rounded half away from zero to so many digits after the point; digits may be negative. */
function rounded(value, digits) {
  if (value.s <= digits) return { n: value.n * 10n ** BigInt(digits - value.s), s: digits };
  const unit = 10n ** BigInt(value.s - digits);
  const size = value.n < 0n ? -value.n : value.n;
  const up = (size + unit / 2n) / unit;
  return { n: value.n < 0n ? -up : up, s: digits };
}

function grouped(whole, shape) {
  const [last, before] = shape.groups;
  if (!last || whole.length <= last) return whole;
  const pieces = [whole.slice(-last)];
  let rest = whole.slice(0, -last);
  while (rest.length > before) {
    pieces.unshift(rest.slice(-before));
    rest = rest.slice(0, -before);
  }
  if (rest) pieces.unshift(rest);
  return pieces.join(shape.group);
}

const MOST_DIGITS = 6;

/** Numbers along an axis, written as the values are, with as many digits more as tell them apart. */
export function ticks(numbers, shape) {
  const plain = { ...shape, zero: "", significant: 0 };
  let texts = [];
  for (let more = 0; more < MOST_DIGITS; more += 1) {
    texts = numbers.map((number) => written(number, { ...plain, least: plain.least + more, most: plain.most + more }));
    if (new Set(texts).size === new Set(numbers).size) break;
  }
  return texts;
}

/** A value as text; a float is the decimal that it is written as. */
export function written(value, shape) {
  if (value === null) return shape.blank;
  if (typeof value === "number" && !Number.isFinite(value)) return value > 0 ? "∞" : "−∞";
  let number = typeof value === "number" ? ofFloat(value) : value;
  if (number.n === 0n && shape.zero) return shape.zero;
  number = { n: number.n, s: number.s + shape.power - shape.percent };
  if (number.s < 0) number = { n: number.n * 10n ** BigInt(-number.s), s: 0 };
  let [least, most] = [shape.least, shape.most];
  if (shape.significant) {
    const size = String(number.n < 0n ? -number.n : number.n);
    const exponent = size.length - 1 - number.s;
    number = number.n === 0n ? number : rounded(number, shape.significant - 1 - exponent);
    const after = String(number.n < 0n ? -number.n : number.n).length - 1 - number.s;
    least = most = number.n === 0n ? 0 : Math.max(0, shape.significant - 1 - after);
  }
  number = rounded(number, most);
  const negative = number.n < 0n;
  const digits = String(negative ? -number.n : number.n).padStart(most + 1, "0");
  let whole = most ? digits.slice(0, -most) : digits;
  let fraction = most ? digits.slice(-most) : "";
  while (fraction.length > least && fraction.endsWith("0")) fraction = fraction.slice(0, -1);
  whole = whole.padStart(Math.max(shape.whole, 1), "0");
  const core = grouped(whole, shape) + (fraction ? shape.decimal + fraction : "");
  return negative ? shape.minus_prefix + core + shape.minus_suffix : shape.prefix + core + shape.suffix;
}
