// What can be done at a word of the sentence.

import { h } from "preact";
import { useState } from "preact/hooks";
import { Actions } from "./box";
import { ADD, type Place } from "./sentence";
import { added, isAxis, moved, plainField, plainValue, removed, replaced, written } from "./compose";
import type { Host } from "./host";
import { MemberList } from "./memberlist";
import { Picker, columnsOf, fieldsOf, measuresOf } from "./picker";
import type { Axis, Choice, FieldWords, Names, Order, Parts, ValueWords, Words } from "./types";
import { aboutOf, called, typeOf } from "./words";

interface Props {
  place: Place; words: Words; names: Names; request: Parts; host: Host;
  ask(request: Parts): void;
  choose(column: string, choice: Choice): void;
  go(place: Place): void;
  close(): void;
}

const LEFT: Record<string, string> = { rows: "columns", columns: "rows" };

/** The condition without what it says of one column: under it, members of that column are counted. */
function besides(request: Parts, words: Words, column: string): string {
  return written(request, { where: words.where.filter((each) => each.column !== column) }).where;
}

/** The menu of one word, or of the button that adds one. */
export function WordMenu(props: Props) {
  const { place, words } = props;
  // A word that was just asked for is not here yet.
  if (place.at !== ADD && words[place.part][place.at] === undefined) return <p class="none">…</p>;
  switch (place.part) {
    case "values":
      return place.at === ADD ? <AddValue {...props} /> : <ValueMenu {...props} value={words.values[place.at]!} />;
    case "rows": case "columns":
      return place.at === ADD ? <AddField {...props} /> : <FieldMenu {...props} axis={place.part} field={words[place.part][place.at]!} />;
    case "where":
      return place.at === ADD ? <AddFilter {...props} /> : <FilterMenu {...props} />;
    case "keep":
      return <KeepMenu {...props} />;
  }
}

function AddValue({ request, words, names, ask, close }: Props) {
  return <Picker items={measuresOf(names)} label="Search measures, or type a formula" typed="this formula" choose={(name) => {
    close();
    ask(added(request, words, "values", plainValue(name)));
  }} />;
}

function AddField({ place, request, words, names, ask, close }: Props) {
  return <Picker items={fieldsOf(names)} label="Search columns, or type a formula" typed="this formula" choose={(name) => {
    close();
    ask(added(request, words, place.part, plainField(name)));
  }} />;
}

function AddFilter({ request, words, names, host, ask, choose, go, close }: Props) {
  const [column, setColumn] = useState("");
  if (column) {
    return (
      <div>
        <h2>{called(names, column)}</h2>
        <MemberList host={host} column={column} where={besides(request, words, column)} choice={null} choose={(choice) => {
          const at = words.where.findIndex((each) => each.column === column && each.choice !== null);
          choose(column, choice);
          go({ part: "where", at: at < 0 ? words.where.length : at });
        }} />
      </div>
    );
  }
  const known = columnsOf(names);
  return <Picker items={known} label="Search columns, or type a condition" typed="this condition" choose={(name) => {
    if (known.some((each) => each.name === name)) setColumn(name);
    else {
      close();
      ask(added(request, words, "where", { text: name, loose: / or /i.test(name), column: "", choice: null }));
    }
  }} />;
}

/** A line to type in: Enter, or leaving it, takes what is there. */
export function Typed({ label, value, take, hint }: { label: string; value: string; hint?: string; take(text: string): void }) {
  return (
    <label class="typed"><span>{label}</span>
      <input value={value} placeholder={hint} aria-label={label} spellcheck={false} onChange={(event) => {
        const text = event.currentTarget.value.trim();
        if (text !== value) take(text);
      }} /></label>
  );
}

function Radio<T extends string>({ name, label, options, value, take }: {
  name: string; label: string; options: [T, string][]; value: T; take(value: T): void;
}) {
  return (
    <fieldset><legend>{label}</legend>
      {options.map(([option, text]) => (
        <label class="radio"><input type="radio" name={name} checked={option === value} onChange={() => take(option)} />
          <span>{text}</span></label>
      ))}
    </fieldset>
  );
}

function Moves({ place, words, request, ask, close }: Props) {
  const { part, at } = place;
  const last = (words[part] as unknown[]).length - 1;
  const to = (next: Place) => () => ask(moved(request, words, place, next));
  return <Actions done={close} items={[
    at > 0 ? ["Move earlier", to({ part, at: at - 1 })] : null,
    at < last ? ["Move later", to({ part, at: at + 1 })] : null,
    isAxis(part) ? [`Move to ${LEFT[part]}`, to({ part: LEFT[part] as Axis, at: words[LEFT[part] as Axis].length })] : null,
    ["Remove", () => ask(removed(request, words, part, at))],
  ]} />;
}

function FieldMenu(props: Props & { field: FieldWords; axis: Axis }) {
  const { place, field, axis, request, words, names, host, ask, choose, close } = props;
  const [sub, setSub] = useState<"" | "replace" | "members">("");
  const set = (part: Partial<FieldWords>) => ask(replaced(request, words, axis, place.at, { ...field, ...part }));
  const filter = words.where.find((each) => each.column === field.field && each.choice !== null);
  if (sub === "replace") {
    return <Picker items={fieldsOf(names)} label="Search columns, or type a formula" typed="this formula" choose={(name) => {
      close();
      ask(replaced(request, words, axis, place.at, { ...plainField(name), total: field.total }));
    }} />;
  }
  if (sub === "members") {
    return <MemberList host={host} column={field.field} where={besides(request, words, field.field)} choice={filter?.choice ?? null}
      choose={(choice) => choose(field.field, choice)} />;
  }
  const type = typeOf(names, field.field);
  const column = type !== "";
  const isHierarchy = names.hierarchies.some((each) => each.name === field.field);
  const bands = type.startsWith("date") || type.startsWith("timestamp")
    ? ["year", "quarter", "month", "week"].map((unit) => [`by ${unit}`, `period(${field.field} by ${unit})`] as const) : [];
  const last = place.at === words[axis].length - 1;
  return (
    <div class="menu">
      <h2>{called(names, field.field)}</h2>
      <pre class="none">{aboutOf(names, field.field)}</pre>
      <div class="buttons">
        <button onClick={() => setSub("replace")}>Another column…</button>
        {!isHierarchy && <button onClick={() => setSub("members")}>Members…</button>}
      </div>
      <OrderMenu {...props} by={field.by} label="Order" set={(by) => set({ by })} />
      <fieldset><legend>How many</legend>
        <label class="radio"><input type="radio" name="best" checked={field.best === null}
          onChange={() => set({ best: null, others: false })} /><span>all</span></label>
        {(["top", "bottom"] as const).map((edge) => (
          <label class="radio"><input type="radio" name="best" checked={field.best?.edge === edge}
            onChange={() => set({ best: { number: 5, by: [], ...field.best, edge } })} /><span>{edge}</span>
            {field.best?.edge === edge && <input type="number" min={1} value={field.best.number} aria-label={`How many at the ${edge}`}
              onChange={(event) => set({ best: { ...field.best!, number: Math.max(1, Math.trunc(Number(event.currentTarget.value)) || 1) } })} />}
          </label>
        ))}
        {field.best && <label class="radio"><input type="checkbox" checked={field.others}
          onChange={() => set({ others: !field.others })} /><span>with others</span></label>}
        {field.best && <Typed label="largest by" value={field.best.by.map((each) => each.formula).join(", ")} hint="the first value"
          take={(text) => set({ best: { ...field.best!, by: text ? [{ formula: text, descending: false }] : [] } })} />}
      </fieldset>
      <Radio name="total" label="Total" value={field.total ?? "after"} options={[["after", "after"], ["before", "before"], ["none", "no total"]]}
        take={(total) => set({ total: total === "after" ? null : total })} />
      {!last && <Radio name="closed" label="Fields after it" value={field.closing === "closed" ? "closed" : field.closing ? "some" : "open"}
        options={[["open", "shown"], ["closed", "closed"], ...(field.closing.startsWith("open") ? [["some", "under some members"] as ["some", string]] : [])]}
        take={(closing) => set({ closing: closing === "closed" ? "closed" : "" })} />}
      {bands.length > 0 && <div class="buttons">{bands.map(([text, formula]) =>
        <button onClick={() => set({ field: formula, by: [] })}>{text}</button>)}</div>}
      {column && /^(integer|decimal|float)/.test(type) && <Typed label="in bands of" value="" hint="10"
        take={(width) => width && set({ field: `band(${field.field} by ${width})`, by: [] })} />}
      {!isHierarchy && <Typed label="heading" value={field.label} take={(label) => set({ label })} />}
      <Moves {...props} />
    </div>
  );
}

function OrderMenu({ words, names, by, label, set }: Props & { by: Order[]; label: string; set(by: Order[]): void }) {
  const own = by.map((each) => `${each.formula}${each.descending ? " desc" : ""}`).join(", ");
  const values = [...new Set(words.values.map((each) => each.formula))];
  const options = values.flatMap((formula) => [`${formula} desc`, formula]);
  const take = (text: string) => {
    const found = text.match(/^(.*?)(\s+desc)?$/is);
    set(text ? [{ formula: found?.[1] ?? text, descending: Boolean(found?.[2]) }] : []);
  };
  return (
    <fieldset><legend>{label}</legend>
      <select aria-label={label} value={options.includes(own) ? own : own ? "…" : ""}
        onChange={(event) => event.currentTarget.value !== "…" && take(event.currentTarget.value)}>
        <option value="">its own order</option>
        {options.map((each) => <option value={each}>{
          each.endsWith(" desc") ? `${called(names, each.slice(0, -5))}, largest first` : `${called(names, each)}, smallest first`}</option>)}
        {own && !options.includes(own) && <option value="…">{own}</option>}
      </select>
      <Typed label="by a formula" value={own} hint="revenue desc" take={take} />
    </fieldset>
  );
}

const SCALES = ["", "thousands", "millions", "billions", "automatic"];

function ValueMenu(props: Props & { value: ValueWords }) {
  const { place, value, request, words, names, ask, close } = props;
  const [replacing, setReplacing] = useState(false);
  const set = (part: Partial<ValueWords>) => ask(replaced(request, words, "values", place.at, { ...value, ...part }));
  const option = (word: string, said: string) => {
    const { [word]: _, ...rest } = value.options;
    set({ options: said ? { ...rest, [word]: said } : rest });
  };
  if (replacing) {
    return <Picker items={measuresOf(names)} label="Search measures, or type a formula" typed="this formula" choose={(name) => {
      close();
      ask(replaced(request, words, "values", place.at, plainValue(name)));
    }} />;
  }
  return (
    <div class="menu">
      <h2>{value.label || called(names, value.formula)}</h2>
      <pre class="none">{aboutOf(names, value.formula)}</pre>
      <div class="buttons"><button onClick={() => setReplacing(true)}>Another measure…</button></div>
      <Typed label="formula" value={value.formula} take={(formula) => formula && set({ formula })} />
      <Typed label="heading" value={value.label} take={(label) => set({ label })} />
      <Typed label="format" value={String(value.options.format ?? "")} hint="#,##0.0" take={(text) => option("format", text)} />
      <label class="typed"><span>shown in</span>
        <select aria-label="shown in" value={String(value.options.scale ?? "")} onChange={(event) => option("scale", event.currentTarget.value)}>
          {SCALES.map((each) => <option value={each}>{each || "ones"}</option>)}</select></label>
      <div class="buttons">
        {["total", "row", "column", "parent"].map((of) =>
          <button onClick={() => ask(added(request, words, "values", { ...plainValue(`share(${value.formula} of ${of})`), label: `${of} share` }))}>
            {`share of ${of}`}</button>)}
      </div>
      <Moves {...props} />
    </div>
  );
}

function FilterMenu(props: Props) {
  const { place, request, words, names, host, ask, choose } = props;
  const filter = words.where[place.at]!;
  return (
    <div class="menu">
      <h2>{filter.column ? called(names, filter.column) : "Condition"}</h2>
      {filter.choice !== null && <MemberList host={host} column={filter.column} where={besides(request, words, filter.column)} choice={filter.choice}
        choose={(choice) => choose(filter.column, choice)} />}
      <Typed label="condition" value={filter.text} take={(text) => text && ask(replaced(request, words, "where", place.at,
        { text, loose: / or /i.test(text), column: "", choice: null }))} />
      <Moves {...props} />
    </div>
  );
}

function KeepMenu(props: Props) {
  const { place, request, words, ask, close } = props;
  const text = place.at === ADD ? "" : words.keep[place.at]!;
  return (
    <div class="menu">
      <h2>Keep members by their values</h2>
      <Typed label="keep" value={text} hint="customer where revenue > 1000" take={(next) => {
        close();
        if (place.at === ADD) ask(added(request, words, "keep", next));
        else ask(next ? replaced(request, words, "keep", place.at, next) : removed(request, words, "keep", place.at));
      }} />
      <p class="none">Or the best: top 10 product by revenue.</p>
      {place.at !== ADD && <Moves {...props} />}
    </div>
  );
}
