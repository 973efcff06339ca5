// The whole sentence as text: names and options are completed, faults are pointed at.

import { h } from "preact";
import { useEffect, useLayoutEffect, useRef, useState } from "preact/hooks";
import { Refused, type Host } from "./host";
import type { Names, Parts } from "./types";

interface Props { host: Host; names: Names; text: string; take(request: Parts): void; leave(): void }
interface Wrong { reason: string; fix: string; start?: number; stop?: number }
type Found = Wrong | { request: Parts };

const OPTIONS = ["by", "desc", "top", "bottom", "with others", "no total", "total before", "total after", "closed", "format",
  "scale", "on rows", "where", "and", "or", "not", "is null", "is no match", "share(", "growth("];
const SECTIONS = ["values", "rows", "columns", "where", "keep", "totals", "show_empty"];
const WAIT = 150;
const MOST = 8;

export interface Completion { word: string; about: string }

/** What the word that ends at a place of a text can become, and where that word begins. */
export function completions(names: Names, text: string, at: number): { from: number; found: Completion[] } {
  const before = text.slice(0, at);
  const word = before.match(/[A-Za-z_][A-Za-z0-9_.]*$/)?.[0] ?? "";
  const from = at - word.length;
  if (!word) return { from, found: [] };
  const lineStart = before.lastIndexOf("\n") + 1;
  const first = before.slice(lineStart, from).trim() === "";
  const known: Completion[] = [
    ...(first ? SECTIONS.map((each) => ({ word: each, about: "a part of the request" })) : []),
    ...names.measures.map((each) => ({ word: each.name, about: each.about || each.formula })),
    ...names.tables.flatMap((table) => table.columns.map((each) => ({ word: each.name, about: each.label }))),
    ...names.hierarchies.map((each) => ({ word: each.name, about: `hierarchy: ${each.levels.join(", ")}` })),
    ...names.functions.map((each) => ({ word: each.name, about: each.signature })),
    ...OPTIONS.map((each) => ({ word: each, about: "option" })),
  ];
  const wanted = word.toLowerCase();
  const begins = known.filter((each) => each.word.toLowerCase().startsWith(wanted));
  const inside = known.filter((each) => !begins.includes(each) && each.word.toLowerCase().includes(wanted));
  const seen = new Set<string>([word]);
  const found = [...begins, ...inside].filter((each) => !seen.has(each.word) && seen.add(each.word));
  return { from, found: found.slice(0, MOST) };
}

/** The line of a text that a fault is in, with carets under the stretch. */
export function pointed(text: string, start: number, stop: number): string {
  const from = text.lastIndexOf("\n", start - 1) + 1;
  const end = text.indexOf("\n", start);
  const line = text.slice(from, end < 0 ? undefined : end);
  const length = Math.max(1, Math.min(stop, from + line.length) - start);
  return `${line}\n${" ".repeat(start - from)}${"^".repeat(length)}`;
}

export function TypedRequest({ host, names, text: given, take, leave }: Props) {
  const [text, setText] = useState(given);
  const [wrong, setWrong] = useState<Wrong | null>(null);
  const [list, setList] = useState<{ from: number; found: Completion[] }>({ from: 0, found: [] });
  const [at, setAt] = useState(-1);
  const area = useRef<HTMLTextAreaElement>(null);
  const turn = useRef(0);
  useEffect(() => area.current?.focus(), []);
  useLayoutEffect(() => {
    if (area.current) area.current.style.height = `${Math.max(area.current.scrollHeight, 90)}px`;
  }, [text]);

  const read = async (now: string): Promise<Found> => {
    try {
      return await host.ask<Found>({ kind: "read", text: now }).answer;
    } catch (error) {
      return error instanceof Refused ? { reason: error.fault.reason, fix: error.fault.fix } : { reason: String(error), fix: "" };
    }
  };
  useEffect(() => {
    const timer = setTimeout(async () => {
      turn.current += 1;
      const own = turn.current;
      const found = await read(text);
      // What was typed since then is read by itself.
      if (own === turn.current) setWrong("request" in found ? null : found);
    }, WAIT);
    return () => clearTimeout(timer);
  }, [text]);
  const apply = async () => {
    const found = await read(text);
    if ("request" in found) take(found.request);
    else setWrong(found);
  };
  const complete = (each: Completion) => {
    const place = area.current?.selectionStart ?? text.length;
    const next = text.slice(0, list.from) + each.word + text.slice(place);
    setText(next);
    setList({ from: 0, found: [] });
    setAt(-1);
    requestAnimationFrame(() => {
      area.current?.focus();
      area.current?.setSelectionRange(list.from + each.word.length, list.from + each.word.length);
    });
  };
  const key = (event: KeyboardEvent) => {
    event.stopPropagation();
    const chosen = list.found[at];
    if (event.key === "Escape") {
      event.preventDefault();
      if (list.found.length) setList({ from: 0, found: [] });
      else leave();
    } else if (list.found.length && (event.key === "ArrowDown" || (event.key === "ArrowUp" && at >= 0))) {
      event.preventDefault();
      setAt(Math.max(-1, Math.min(at + (event.key === "ArrowDown" ? 1 : -1), list.found.length - 1)));
    } else if (event.key === "Tab" && list.found.length && !event.shiftKey) {
      event.preventDefault();
      complete(chosen ?? list.found[0]!);
    } else if (event.key === "Enter" && chosen) {
      event.preventDefault();
      complete(chosen);
    } else if (event.key === "Enter" && !event.shiftKey) {
      event.preventDefault();
      void apply();
    }
  };
  return (
    <div class="typing">
      <textarea ref={area} value={text} aria-label="The request as text" spellcheck={false} onKeyDown={key} rows={4}
        aria-autocomplete="list" aria-controls={list.found.length ? "typing-list" : undefined} aria-describedby="typing-fault"
        onInput={(event) => {
          const { value, selectionStart } = event.currentTarget;
          setText(value);
          setList(completions(names, value, selectionStart));
          setAt(-1);
        }} />
      {list.found.length > 0 && <ul class="options" id="typing-list" role="listbox" aria-label="Completions">
        {list.found.map((each, place) => (
          <li role="option" aria-selected={place === at} class={place === at ? "at" : ""}
            onPointerDown={(event) => { event.preventDefault(); complete(each); }}>
            <span>{each.word}</span><small>{each.about}</small></li>
        ))}
      </ul>}
      <div id="typing-fault" role="status" class={wrong ? "fault" : ""}>
        {wrong && wrong.start !== undefined && <pre>{pointed(text, wrong.start, wrong.stop ?? wrong.start + 1)}</pre>}
        {wrong && <p>{wrong.reason} {wrong.fix}</p>}
      </div>
      <div class="buttons">
        <button onClick={() => void apply()}>Ask</button>
        <button onClick={leave}>Leave</button>
        <span class="none">Enter asks, Shift+Enter begins a line, Tab completes, Escape leaves.</span>
      </div>
    </div>
  );
}
