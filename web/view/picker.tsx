// A list of names to choose from, searched by name, label, table and description.

import { h } from "preact";
import { useEffect, useRef, useState } from "preact/hooks";
import type { Names } from "./types";

export interface Choosable { name: string; label: string; group: string; about: string }

/** What an axis can have: hierarchies, then the columns of each table. */
export function fieldsOf(names: Names): Choosable[] {
  return [
    ...names.hierarchies.map((each) => ({
      name: each.name, label: each.name, group: "hierarchies", about: each.about || each.levels.join(", "),
    })),
    ...columnsOf(names),
  ];
}

export function columnsOf(names: Names): Choosable[] {
  return names.tables.flatMap((table) => table.columns.map((column) => ({
    name: column.name, label: column.label, group: table.name, about: column.about || column.type,
  })));
}

export function measuresOf(names: Names): Choosable[] {
  return names.measures.map((each) => ({
    name: each.name, label: each.label, group: "measures", about: each.about || each.formula,
  }));
}

const MOST = 200;

interface Props { items: Choosable[]; label: string; choose(name: string): void; typed?: string }

/** A search field over a list; what is typed and not in the list is taken as a formula, where ``typed`` says of what. */
export function Picker({ items, label, choose, typed }: Props) {
  const [text, setText] = useState("");
  const [at, setAt] = useState(0);
  const field = useRef<HTMLInputElement>(null);
  const list = useRef<HTMLDivElement>(null);
  useEffect(() => field.current?.focus(), []);
  const words = text.toLowerCase().split(/\s+/).filter(Boolean);
  const has = (all: string) => words.every((word) => all.toLowerCase().includes(word));
  // What is called so comes before what is only described so.
  const named = items.filter((each) => has(`${each.name} ${each.label} ${each.group}`));
  const found = words.length ? [...named, ...items.filter((each) => !named.includes(each) && has(`${each.name} ${each.about}`))] : items;
  const shown = found.slice(0, MOST);
  const own = typed !== undefined && text.trim() !== "" && !items.some((each) => each.name === text.trim());
  const last = shown.length + (own ? 1 : 0) - 1;
  const take = (place: number) => {
    const item = shown[place];
    if (item !== undefined) choose(item.name);
    else if (own) choose(text.trim());
  };
  const key = (event: KeyboardEvent) => {
    const step = { ArrowDown: 1, ArrowUp: -1 }[event.key];
    if (step !== undefined) {
      event.preventDefault();
      const next = Math.max(0, Math.min(at + step, last));
      setAt(next);
      list.current?.querySelectorAll("[role=option]")[next]?.scrollIntoView({ block: "nearest" });
    } else if (event.key === "Enter") {
      event.preventDefault();
      take(at);
    }
  };
  let group = "";
  return (
    <div class="picker">
      <input ref={field} type="search" aria-label={label} placeholder={label} value={text} role="combobox" aria-expanded="true"
        aria-controls="picker-list" aria-activedescendant={last >= 0 ? `option-${at}` : undefined} onKeyDown={key}
        onInput={(event) => {
          setText(event.currentTarget.value);
          setAt(0);
        }} />
      <div class="options" role="listbox" id="picker-list" aria-label={label} ref={list} tabIndex={-1}>
        {shown.map((each, place) => {
          const head = each.group !== group;
          group = each.group;
          return [
            head && <div class="group" role="presentation">{each.group}</div>,
            <div role="option" id={`option-${place}`} aria-selected={place === at} class={place === at ? "at" : ""}
              onClick={() => choose(each.name)} onPointerEnter={() => setAt(place)}>
              <span>{each.label}</span><small>{each.about}</small></div>,
          ];
        })}
        {own && <div role="option" id={`option-${shown.length}`} aria-selected={at === shown.length}
          class={at === shown.length ? "at" : ""} onClick={() => take(shown.length)}>
          <span>{text}</span><small>{typed}</small></div>}
        {!shown.length && !own && <p class="none">Nothing is called that.</p>}
        {found.length > MOST && <p class="none">{found.length - MOST} more: search for them.</p>}
      </div>
    </div>
  );
}
