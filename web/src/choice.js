// What is chosen of a field: whether the rest of its members stay, and the members that do otherwise.

export const OTHERS = -2;

/** Whether a member is chosen; "others" goes as the rest does. */
export function ticked(choice, code) {
  return choice === undefined || (code === OTHERS ? choice.rest : choice.rest !== choice.except.has(code));
}

/** A choice with one member changed, out of those that can be chosen; undefined where nothing is left out. */
export function flipped(choice, code, every) {
  const before = choice ?? { rest: true, except: new Set() };
  if (code === OTHERS) {
    const rest = !before.rest;
    return simplest({ rest, except: new Set(every.filter((each) => each !== OTHERS && ticked(before, each) !== rest)) });
  }
  const except = new Set(before.except);
  if (except.has(code)) except.delete(code);
  else except.add(code);
  return simplest({ rest: before.rest, except });
}

/** The choice of these members alone. */
export function only(codes) {
  return { rest: codes.includes(OTHERS), except: new Set(codes.filter((code) => code !== OTHERS)) };
}

function simplest(choice) {
  return choice.rest && choice.except.size === 0 ? undefined : choice;
}

/** How many members of a set are chosen: all, some or none; of a set that is not known it may be some. */
export function part(choice, members) {
  if (choice === undefined) return "all";
  if (members === null) return choice.except.size ? "some" : choice.rest ? "all" : "none";
  let count = 0;
  for (const code of members) count += ticked(choice, code);
  return count === 0 ? "none" : count === members.size ? "all" : "some";
}
