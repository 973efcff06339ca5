// The request as a sentence of words: each can be opened, moved and removed, by mouse and by keys.

import { h } from "preact";
import { useLayoutEffect, useRef, useState } from "preact/hooks";
import { isAxis } from "./compose";
import type { Names, Part, Words } from "./types";
import { ADDING, BEFORE, PARTS, fieldSaid, filterSaid, valueSaid, type Said } from "./words";

export interface Place { part: Part; at: number }

interface Props {
  words: Words; names: Names; place: Place | null;
  open(place: Place, anchor: HTMLElement): void;
  move(from: Place, to: Place): void;
  remove(place: Place): void;
  turn(): void;
  type(): void;
}

function saidOf(names: Names, words: Words, part: Part, at: number): Said {
  switch (part) {
    case "values": return valueSaid(names, words.values[at]!);
    case "rows": case "columns": return fieldSaid(names, words[part][at]!);
    case "where": return filterSaid(names, words.where[at]!);
    case "keep": return { main: words.keep[at]!, rest: "" };
  }
}

/** The number of a part's button that adds a word. */
export const ADD = -1;

export function Sentence({ words, names, place, open, move, remove, turn, type }: Props) {
  const bar = useRef<HTMLDivElement>(null);
  const dragged = useRef<Place | null>(null);
  const wanted = useRef<Place | null>(null);
  const [over, setOver] = useState("");
  const other = { rows: "columns", columns: "rows" } as const;

  const buttons = () => [...(bar.current?.querySelectorAll<HTMLButtonElement>("button.word") ?? [])];
  const focus = (step: number, from: EventTarget | null) => {
    const every = buttons();
    const at = every.findIndex((each) => each === from);
    every[Math.max(0, Math.min(at + step, every.length - 1))]?.focus();
  };
  // The word that was moved or removed is drawn anew once the answer is there.
  const keepFocus = (to: Place) => { wanted.current = to; };
  useLayoutEffect(() => {
    const to = wanted.current;
    if (to === null) return;
    wanted.current = null;
    const every = [...(bar.current?.querySelectorAll<HTMLButtonElement>(`[data-part="${to.part}"]`) ?? [])];
    (every[Math.max(0, Math.min(to.at, every.length - 1))] ?? every.at(-1))?.focus();
  }, [words]);
  const key = (own: Place) => (event: KeyboardEvent & { currentTarget: HTMLElement }) => {
    const { part, at } = own;
    const go = (to: Place) => {
      move(own, to);
      keepFocus(to);
    };
    if (event.altKey && at !== ADD && event.key.startsWith("Arrow")) {
      event.preventDefault();
      if (event.key === "ArrowLeft") go({ part, at: at - 1 });
      if (event.key === "ArrowRight") go({ part, at: at + 1 });
      if ((event.key === "ArrowUp" || event.key === "ArrowDown") && isAxis(part)) {
        go({ part: other[part], at: words[other[part]].length });
      }
      return;
    }
    const act: Record<string, () => void> = {
      ArrowRight: () => focus(1, event.currentTarget), ArrowLeft: () => focus(-1, event.currentTarget),
      Home: () => focus(-1e6, event.currentTarget), End: () => focus(1e6, event.currentTarget),
      ArrowDown: () => open(own, event.currentTarget),
      t: () => { turn(); keepFocus(isAxis(part) ? { part: other[part], at } : own); }, "/": type,
      ...(at === ADD ? {} : { Delete: () => { remove(own); keepFocus(own); }, Backspace: () => { remove(own); keepFocus(own); } }),
    };
    const found = act[event.key];
    if (found && !event.ctrlKey && !event.metaKey) {
      event.preventDefault();
      event.stopPropagation();
      found();
    }
  };
  const drop = (to: Place) => ({
    onDragOver: (event: DragEvent) => {
      const from = dragged.current;
      if (from !== null && (from.part === to.part || (isAxis(from.part) && isAxis(to.part)))) {
        event.preventDefault();
        setOver(`${to.part},${to.at}`);
      }
    },
    onDragLeave: () => setOver(""),
    onDrop: (event: DragEvent) => {
      event.preventDefault();
      setOver("");
      if (dragged.current !== null) move(dragged.current, to.at === ADD ? { part: to.part, at: words[to.part].length } : to);
      dragged.current = null;
    },
  });
  return (
    <div class="sentence" role="toolbar" aria-label="Request" aria-describedby="sentence-keys" ref={bar}>
      <span id="sentence-keys" class="hidden">Arrow keys go from word to word, Enter opens one, Delete removes it,
        Alt with arrow keys moves it, t turns rows and columns, slash types the request as text.</span>
      {PARTS.map((part) => {
        const list = words[part] as unknown[];
        const shown = list.length > 0 || part !== "keep";
        return (
          <span class={`part ${list.length ? "" : "without"}`} key={part}>
            {BEFORE[part] && shown && <span class="before">{BEFORE[part]}</span>}
            {list.map((_, at) => {
              const said = saidOf(names, words, part, at);
              const own = { part, at };
              const isOpen = place !== null && place.part === part && place.at === at;
              return (
                <span class="item">
                  <button class={`word ${over === `${part},${at}` ? "over" : ""}`} data-part={part} draggable aria-haspopup="dialog"
                    aria-expanded={isOpen} onClick={(event) => open(own, event.currentTarget)} onKeyDown={key(own)} {...drop(own)}
                    onDragStart={() => { dragged.current = own; }} onDragEnd={() => { dragged.current = null; setOver(""); }}>
                    <b>{said.main}</b>{said.rest && <span> {said.rest}</span>}</button>
                  {at < list.length - 1 && <span class="comma">{isAxis(part) ? "›" : part === "where" ? "and" : ","}</span>}
                </span>
              );
            })}
            <button class={`word add ${over === `${part},${ADD}` ? "over" : ""}`} aria-label={ADDING[part]} title={ADDING[part]}
              aria-haspopup="dialog" aria-expanded={place !== null && place.part === part && place.at === ADD}
              onClick={(event) => open({ part, at: ADD }, event.currentTarget)} onKeyDown={key({ part, at: ADD })}
              {...drop({ part, at: ADD })}>{part === "keep" && !list.length ? "+ keep" : "+"}</button>
          </span>
        );
      })}
    </div>
  );
}
