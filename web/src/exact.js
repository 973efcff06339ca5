// Exact numbers: whole numbers times a power of ten. What cannot be exact is a plain float.

/** A number as it comes in the page: null, a float, or whole digits with a scale. */
export function exact(digits, scale) {
  return digits === null ? null : { n: BigInt(digits), s: scale };
}

/** The decimal that a float is written as: the shortest that gives the float back. */
export function ofFloat(number) {
  const [mantissa, exponent] = String(number).split("e");
  const [whole, fraction = ""] = mantissa.split(".");
  const power = Number(exponent ?? 0) - fraction.length;
  const digits = BigInt(whole + fraction);
  return power >= 0 ? { n: digits * 10n ** BigInt(power), s: 0 } : { n: digits, s: -power };
}

/** An exact number or a float, as a float. */
export function toFloat(value) {
  return typeof value === "number" ? value : Number(value.n) / 10 ** value.s;
}

function alike(one, other) {
  const s = Math.max(one.s, other.s);
  return [one.n * 10n ** BigInt(s - one.s), other.n * 10n ** BigInt(s - other.s), s];
}

export function add(one, other) {
  if (typeof one === "number" || typeof other === "number") return toFloat(one) + toFloat(other);
  const [a, b, s] = alike(one, other);
  return { n: a + b, s };
}

export function negate(value) {
  return typeof value === "number" ? -value : { n: -value.n, s: value.s };
}

function times(one, other) {
  if (typeof one === "number" || typeof other === "number") return toFloat(one) * toFloat(other);
  return { n: one.n * other.n, s: one.s + other.s };
}

function over(one, other) {
  const below = toFloat(other);
  return below === 0 ? null : toFloat(one) / below;
}

export function less(one, other) {
  if (typeof one === "number" || typeof other === "number") return toFloat(one) < toFloat(other);
  const [a, b] = alike(one, other);
  return a < b;
}

/** What a recipe comes to with these parts; null as soon as a part is null. */
export function cook(steps, parts) {
  const [what, ...rest] = steps;
  if (what === "part") return parts[rest[0]];
  if (what === "number") return Number.isInteger(rest[0]) ? exact(rest[0], 0) : rest[0];
  const values = rest.map((each) => cook(each, parts));
  if (values.some((each) => each === null)) return null;
  switch (what) {
    case "+": return add(values[0], values[1]);
    case "-": return add(values[0], negate(values[1]));
    case "*": return times(values[0], values[1]);
    case "/": return over(values[0], values[1]);
    case "negate": return negate(values[0]);
    default: throw new Error(`no recipe has ${what}`);
  }
}

/** Numbers put together: their sum, or the least or greatest of them; null where there is none. */
export function merged(how, values) {
  let found = null;
  for (const each of values) {
    if (each === null) continue;
    if (found === null) found = each;
    else if (how === "sum") found = add(found, each);
    else if (how === "min") found = less(each, found) ? each : found;
    else if (how === "max") found = less(found, each) ? each : found;
    else throw new Error(`no parts are merged by ${how}`);
  }
  return found;
}
