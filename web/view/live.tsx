// The page that relatum view serves: it takes the token of this start from the address, and keeps it for this tab.

import { h, render } from "preact";
import { useEffect, useState } from "preact/hooks";
import { App } from "./app";
import { FaultTold } from "./edits";
import { Refused, Served } from "./host";
import { AddressTrail } from "./trail";
import type { Fault, Opened } from "./types";

const KEY = "relatum-token";

function tokenOf(): string {
  const found = location.hash.match(/^#token=([\w-]+)$/);
  if (found?.[1]) {
    sessionStorage.setItem(KEY, found[1]);
    history.replaceState(null, "", location.pathname);
  }
  return sessionStorage.getItem(KEY) ?? "";
}

function Page({ host }: { host: Served }) {
  const [opened, setOpened] = useState<Opened | null>(null);
  const [fault, setFault] = useState<Fault | null>(null);
  const [dark, setDark] = useState(() => matchMedia("(prefers-color-scheme: dark)").matches);
  useEffect(() => {
    document.documentElement.dataset.mode = dark ? "dark" : "light";
  }, [dark]);
  useEffect(() => {
    host.ask<Opened>({ kind: "open" }).answer.then(setOpened, (error: unknown) => {
      if (error instanceof Refused) setFault(error.fault);
    });
  }, []);
  if (opened === null) return <main class="start">{fault ? <FaultTold fault={fault} /> : <p role="status">Opening…</p>}</main>;
  const size = parseFloat(getComputedStyle(document.body).fontSize);
  return <App host={host} opened={opened} size={size} dark={dark} mode={setDark} start={AddressTrail.start() ?? opened.start} />;
}

render(<Page host={new Served(tokenOf())} />, document.getElementById("live")!);
