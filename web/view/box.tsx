// A box that opens at a word or a line, and closes with Escape or a click elsewhere.

import { h, type ComponentChildren } from "preact";
import { useEffect, useLayoutEffect, useRef, useState } from "preact/hooks";

interface Props { anchor: HTMLElement; label: string; close(): void; children: ComponentChildren }

const EDGE = 8;

const first = (element: HTMLElement) => element.querySelector<HTMLElement>("input, button, select, textarea, [tabindex]");

export function Box({ anchor, label, close, children }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const [place, setPlace] = useState({ left: 0, top: 0 });
  useLayoutEffect(() => {
    const element = box.current;
    const outer = element?.offsetParent?.getBoundingClientRect();
    if (!element || !outer) return;
    const from = anchor.getBoundingClientRect();
    const left = Math.min(from.left, innerWidth - element.offsetWidth - EDGE);
    const below = from.bottom + 4;
    const top = below + element.offsetHeight > innerHeight ? Math.max(EDGE, innerHeight - element.offsetHeight - EDGE) : below;
    setPlace({ left: Math.max(EDGE, left) - outer.left, top: top - outer.top });
  }, [anchor, label]);
  useEffect(() => {
    const element = box.current;
    if (element && !element.contains(document.activeElement)) first(element)?.focus();
    const away = (event: PointerEvent) => {
      const at = event.composedPath();
      if (element && !at.includes(element) && !at.includes(anchor)) close();
    };
    // A click on a text in the box leaves the focus nowhere: Escape and Tab are still meant for the box.
    const lost = (event: KeyboardEvent) => {
      if (event.composedPath()[0] !== document.body) return;
      if (event.key === "Escape") {
        close();
        anchor.focus();
      } else if (event.key === "Tab" && element) {
        event.preventDefault();
        first(element)?.focus();
      }
    };
    addEventListener("pointerdown", away, true);
    addEventListener("keydown", lost);
    return () => {
      removeEventListener("pointerdown", away, true);
      removeEventListener("keydown", lost);
    };
  }, [anchor]);
  useEffect(() => {
    // What had the focus may go when the box shows something else.
    if (box.current && document.activeElement === document.body) first(box.current)?.focus();
  }, [label, children]);
  const key = (event: KeyboardEvent) => {
    event.stopPropagation();
    if (event.key === "Escape") {
      event.preventDefault();
      close();
      anchor.focus();
    }
    if (event.key === "Tab" && box.current) {
      const every = [...box.current.querySelectorAll<HTMLElement>(
        "button:not([disabled]), input:not([disabled]), select, textarea, a[href]")].filter((each) => each.offsetParent !== null);
      const [start, end] = [every[0], every.at(-1)];
      const now = document.activeElement;
      if (event.shiftKey && now === start) {
        event.preventDefault();
        end?.focus();
      } else if (!event.shiftKey && now === end) {
        event.preventDefault();
        start?.focus();
      }
    }
  };
  return (
    <div class="box" role="dialog" aria-label={label} ref={box} onKeyDown={key}
      style={{ left: `${place.left}px`, top: `${place.top}px` }}>{children}</div>
  );
}

interface ActionProps { items: ([label: string, act: () => void] | null)[]; done(): void }

/** Buttons one below the other, gone through with arrow keys. */
export function Actions({ items, done }: ActionProps) {
  const box = useRef<HTMLDivElement>(null);
  const key = (event: KeyboardEvent) => {
    const step = { ArrowDown: 1, ArrowUp: -1 }[event.key];
    if (step === undefined) return;
    event.preventDefault();
    const every = [...(box.current?.querySelectorAll("button") ?? [])];
    const at = every.findIndex((each) => each === document.activeElement);
    every[Math.max(0, Math.min(at + step, every.length - 1))]?.focus();
  };
  return (
    <div class="actions" ref={box} onKeyDown={key}>
      {items.map((item) => item && <button onClick={() => {
        done();
        item[1]();
      }}>{item[0]}</button>)}
    </div>
  );
}
