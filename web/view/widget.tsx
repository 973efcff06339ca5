// The same page in a notebook: a widget of the kernel's, in the notebook's light or dark.

import { Fragment, h, render } from "preact";
import { useEffect, useState } from "preact/hooks";
import { App } from "./app";
import { FaultTold } from "./edits";
import { Kernel, Refused, type Channel } from "./host";
import type { Fault, Opened } from "./types";

function Page({ host, element }: { host: Kernel; element: HTMLElement }) {
  const [opened, setOpened] = useState<Opened | null>(null);
  const [fault, setFault] = useState<Fault | null>(null);
  const [dark, setDark] = useState(() => isDark());
  useEffect(() => {
    element.dataset.mode = dark ? "dark" : "light";
  }, [dark]);
  useEffect(() => {
    host.ask<Opened>({ kind: "open" }).answer.then(setOpened, (error: unknown) => {
      if (error instanceof Refused) setFault(error.fault);
    });
  }, []);
  if (opened === null) return <div class="live">{fault ? <FaultTold fault={fault} /> : <p role="status">Opening…</p>}</div>;
  const size = parseFloat(getComputedStyle(element).fontSize) || 14;
  return <Fragment><style>{opened.theme}</style><App host={host} opened={opened} size={size} dark={dark} mode={setDark} start={opened.start} /></Fragment>;
}

/** Whether the notebook is dark: by the colour of what is behind the widget. */
function isDark(): boolean {
  const found = getComputedStyle(document.body).backgroundColor.match(/\d+(\.\d+)?/g)?.map(Number);
  if (found === undefined || found.length < 3 || found[3] === 0) return matchMedia("(prefers-color-scheme: dark)").matches;
  const [red = 0, green = 0, blue = 0] = found;
  return red * 0.3 + green * 0.6 + blue * 0.1 < 128;
}

export default {
  render({ model, el }: { model: Channel; el: HTMLElement }): () => void {
    const host = new Kernel(model);
    el.classList.add("relatum-live");
    // Keys that are typed here are not the notebook's.
    el.setAttribute("data-lm-suppress-shortcuts", "true");
    render(<Page host={host} element={el} />, el);
    return () => {
      render(null, el);
      host.close();
    };
  },
};
