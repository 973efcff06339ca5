// The live page: the sentence, its grid, what lies beside it, and the model; the same in the browser and in a notebook.

import { h } from "preact";
import { useEffect, useMemo, useRef, useState } from "preact/hooks";
import { copied } from "../src/copy.js";
import { Looked } from "../src/grid";
import { handOver, textOfFile } from "./blocks";
import { Actions, Box } from "./box";
import { isAxis, moved, removed, replaced, turned } from "./compose";
import type { Editing, Preview } from "./edits";
import { GridPane, type Menu } from "./gridpane";
import { Refused, watched, type Host } from "./host";
import { LiveGrid } from "./livegrid";
import { WordMenu } from "./menus";
import { ModelView } from "./modelview";
import { Panel, type Tab } from "./panel";
import { FormsBox, SaveFile, SavePivot } from "./saving";
import { ADD, Sentence, type Place } from "./sentence";
import { AddressTrail, ListTrail, type Trail } from "./trail";
import { TypedRequest } from "./typed";
import type { Answer, Choice, Edit, Fault, FileBytes, Names, Opened, Parts, Said, Shown } from "./types";
import { FaultTold } from "./edits";

type Opening = { kind: "word"; place: Place } | { kind: "forms" | "keep" | "save" | "export" | "options" | "pivots" };

const PATIENCE = 300;

interface Props { host: Host; opened: Opened; size: number; dark: boolean; mode(dark: boolean): void; start: Parts }

export function App({ host: given, opened, size, dark, mode, start }: Props) {
  const [asking, setAsking] = useState(0);
  const host = useMemo(() => watched(given, setAsking), [given]);
  const [names, setNames] = useState<Names>(opened.names);
  const [said, setSaid] = useState<Said | null>(null);
  const [grid, setGrid] = useState<{ live: LiveGrid; answer: Answer } | null>(null);
  const [fault, setFault] = useState<Fault | null>(null);
  const [busy, setBusy] = useState<{ number: number; what: string } | null>(null);
  const [held, setHeld] = useState(false);
  const [box, setBox] = useState<{ anchor: HTMLElement; opening: Opening } | null>(null);
  const [typing, setTyping] = useState(false);
  const [page, setPage] = useState<"grid" | "model">("grid");
  const [tab, setTab] = useState<Tab | null>(innerWidth > 1000 ? "chart" : null);
  const [below, setBelow] = useState(innerWidth <= 1000);
  const [chosen, setChosen] = useState<[number, number][]>([]);
  const [preview, setPreview] = useState<Preview | null>(null);
  const [revision, setRevision] = useState(0);
  const [unsaved, setUnsaved] = useState(false);
  const [told, setTold] = useState("");
  const [, setDrawn] = useState(0);
  const current = useRef(0);
  const heldNow = useRef(false);
  heldNow.current = held;

  const trail = useMemo<Trail>(() => {
    const back = (request: Parts) => void run(request, false);
    return host.addressed ? new AddressTrail(back) : new ListTrail(back);
  }, []);

  /** Asks a request; what was being asked before is not wanted any more. */
  async function run(request: Parts, keep = true): Promise<void> {
    if (current.current) void host.ask({ kind: "stop", number: current.current }).answer.catch(() => undefined);
    const { number, answer } = host.ask<Answer>({ kind: "ask", request });
    current.current = number;
    const timer = setTimeout(() => watch(number), PATIENCE);
    try {
      const found = await answer;
      if (current.current !== number) return;
      const live = new LiveGrid(host, found.grid, found.shown, () => setDrawn((before) => before + 1), found.cells);
      setGrid({ live, answer: found });
      setSaid(found);
      setChosen([]);
      setFault(null);
      if (keep) trail.push(found.request);
    } catch (error) {
      if (current.current === number && error instanceof Refused && !error.fault.stopped) setFault(error.fault);
    } finally {
      clearTimeout(timer);
      if (current.current === number) {
        current.current = 0;
        setBusy(null);
      }
    }
  }

  function watch(number: number): void {
    if (current.current !== number) return;
    setBusy({ number, what: "" });
    host.ask<{ what: string; done: number; total: number }>({ kind: "progress", number }).answer.then(({ what, done, total }) => {
      if (current.current === number) setBusy({ number, what: total ? `${what} (${done} of ${total})` : what });
      setTimeout(() => watch(number), PATIENCE);
    }, () => undefined);
  }

  /** A changed request: asked, or while changes are held only understood. */
  async function ask(request: Parts): Promise<void> {
    if (!heldNow.current) return run(request);
    try {
      setSaid(await host.ask<Said>({ kind: "understand", request }).answer);
      setFault(null);
    } catch (error) {
      if (error instanceof Refused) setFault(error.fault);
    }
    return undefined;
  }

  useEffect(() => {
    void run(start);
  }, []);
  useEffect(() => {
    if (!told) return undefined;
    const timer = setTimeout(() => setTold(""), 4000);
    return () => clearTimeout(timer);
  }, [told]);
  useEffect(() => {
    const key = (event: KeyboardEvent) => {
      const at = event.composedPath()[0];
      const writing = at instanceof HTMLElement && /^(INPUT|TEXTAREA|SELECT)$/.test(at.tagName);
      if (event.key === "/" && !writing && !event.ctrlKey && !event.metaKey && host.addressed) {
        event.preventDefault();
        setTyping(true);
      }
    };
    addEventListener("keydown", key);
    return () => removeEventListener("keydown", key);
  }, []);

  const shownPreview = useMemo(() => preview && new LiveGrid(host, preview.number, preview.shown, () => setDrawn((before) => before + 1),
    preview.cells), [preview]);

  if (said === null || grid === null) {
    return <div class="live"><main class="start">{fault ? <FaultTold fault={fault} /> : <p role="status">Asking {opened.model}…</p>}
      {fault && <button onClick={() => void run(opened.start)}>Ask the first request again</button>}</main></div>;
  }
  const { request, words } = said;
  const pending = held && JSON.stringify(request) !== JSON.stringify(grid.answer.request);
  const choose = async (column: string, choice: Choice) => {
    try {
      await ask(await host.ask<Parts>({ kind: "choose", request, column, ...choice }).answer);
    } catch (error) {
      if (error instanceof Refused) setFault(error.fault);
    }
  };
  const turn = async (menu: Menu, how: "only" | "without" | "open" | "close") => {
    try {
      await ask(await host.ask<Parts>({ kind: "turn", grid: grid.live.number, axis: menu.axis, line: menu.line, how }).answer);
    } catch (error) {
      if (error instanceof Refused) setFault(error.fault);
    }
  };
  const close = () => setBox(null);
  const open = (opening: Opening) => (event: { currentTarget: HTMLElement }) => setBox({ anchor: event.currentTarget, opening });
  const make = async (edit: Edit) => {
    const found = await host.ask<{ changes: string[]; names: Names }>({ kind: "change", edit }).answer;
    setNames(found.names);
    setUnsaved(true);
    setRevision((before) => before + 1);
    setTold(found.changes.join("; ") || "Nothing changes.");
    if (edit.edit !== "keeppivot") await run(request, false);
  };
  const takeBack = async () => {
    const found = await host.ask<{ taken: boolean; names: Names }>({ kind: "takeback" }).answer;
    setNames(found.names);
    setRevision((before) => before + 1);
    setTold(found.taken ? "The last edit was taken back." : "There is no edit to take back.");
    if (!found.taken) setUnsaved(false);
    await run(request, false);
  };
  const refresh = async () => {
    const found = await host.ask<{ text: string; names: Names }>({ kind: "refresh" }).answer;
    setNames(found.names);
    setRevision((before) => before + 1);
    await run(request, false);
    return found.text;
  };
  const copyGrid = async () => {
    const done = await copied(await grid.live.asText(new Set()));
    setTold(done ? "Copied as a table for spreadsheets." : "The browser does not let this page copy.");
  };
  const copyText = async () => {
    const file = await host.ask<FileBytes>({ kind: "export", grid: grid.live.number, ending: ".txt" }).answer;
    setTold(await copied(textOfFile(file)) ? "Copied as text." : "The browser does not let this page copy.");
  };
  const exported = async (ending: string) => {
    close();
    try {
      handOver(await host.ask<FileBytes>({ kind: "export", grid: grid.live.number, ending }).answer);
    } catch (error) {
      if (error instanceof Refused) setFault(error.fault);
    }
  };
  const toggle = (part: Partial<Parts>) => void ask({ ...request, ...part });
  const editing: Editing = { host, request, revision, make, preview: setPreview };
  const opening = box?.opening;
  return (
    <div class="live" aria-busy={asking > 0}>
      <header>
        <div class="top">
          <h1>{opened.model}</h1>
          <div class="buttons" role="toolbar" aria-label="Page">
            <button aria-pressed={page === "grid"} onClick={() => setPage("grid")}>Grid</button>
            <button aria-pressed={page === "model"} onClick={() => setPage("model")}>Model</button>
            <span class="gap" />
            <button disabled={!trail.canBack()} onClick={() => trail.back()}>Undo</button>
            <button disabled={!trail.canForward()} onClick={() => trail.forward()}>Redo</button>
            <button title="Rows become columns" onClick={() => void ask(turned(request))}>Turn</button>
            <button aria-pressed={held} title="Collect several changes and ask once" onClick={() => {
              setHeld(!held);
              if (held && pending) void run(request);
            }}>{held ? "Ask" : "Hold"}</button>
            <span class="gap" />
            <button aria-haspopup="dialog" onClick={open({ kind: "pivots" })}>Pivots</button>
            <button aria-haspopup="dialog" onClick={open({ kind: "options" })}>Options</button>
            <button aria-haspopup="dialog" onClick={open({ kind: "forms" })}>Request</button>
            <button aria-haspopup="dialog" onClick={open({ kind: "export" })}>Export</button>
            {opened.can.edit && <button aria-haspopup="dialog" onClick={open({ kind: "keep" })}>Keep</button>}
            {opened.can.edit && unsaved && <button onClick={() => void takeBack()}>Take back</button>}
            {opened.can.save && <button aria-haspopup="dialog" class={unsaved ? "main" : ""} onClick={open({ kind: "save" })}>Save</button>}
            <span class="gap" />
            {tab === null && page === "grid" && <button onClick={() => setTab("chart")}>Panel</button>}
            <button aria-pressed={dark} onClick={() => mode(!dark)}>Dark</button>
          </div>
        </div>
        {typing ? <TypedRequest host={host} names={names} text={textOf(said)} leave={() => setTyping(false)} take={(next) => {
          setTyping(false);
          void ask({ ...next, style: request.style });
        }} /> : <div class="saying">
          <Sentence words={words} names={names} place={opening?.kind === "word" ? opening.place : null}
            open={(place, anchor) => setBox({ anchor, opening: { kind: "word", place } })}
            move={(from, to) => void ask(moved(request, words, from, to))}
            remove={(place) => place.at !== ADD && void ask(removed(request, words, place.part, place.at))}
            turn={() => void ask(turned(request))} type={() => setTyping(true)} />
          <button class="slash" aria-label="Type the request as text" title="Type the request as text" onClick={() => setTyping(true)}>/</button>
        </div>}
        {fault && <FaultTold fault={fault} />}
        {pending && <p class="none" role="status">Held: the grid is the answer before these changes.</p>}
        {busy && <p class="busy" role="status"><progress aria-label="Working" /> {busy.what || "Working…"}
          <button onClick={() => void host.ask({ kind: "stop", number: busy.number }).answer}>Stop</button></p>}
      </header>
      {page === "grid" ? <GridPane key="grid" live={grid.live} label={`${opened.model}: the answer`} size={size} chosen={chosen}
        setChosen={(cells) => {
          setChosen(cells);
          if (cells.length === 2) setTab("moved");
          else if (tab !== null && tab !== "why") setTab("why");
        }} below={below} copy={() => void copyGrid()} turn={turn}
        apart={(axis, field) => void ask(replaced(request, words, axis, field, { ...words[axis][field]!, best: null, others: false }))}
        order={(formula, descending) => {
          const at = words.rows.length - 1;
          if (at >= 0) void ask(replaced(request, words, "rows", at, { ...words.rows[at]!, by: [{ formula, descending }] }));
        }} explain={(cell) => {
          setChosen([cell]);
          setTab("why");
        }} panel={tab && <Panel host={host} tab={tab} set={setTab} grid={grid.live.number} chosen={chosen} names={names} where={request.where}
          charts={opened.charts} dark={dark} below={below} place={setBelow} close={() => setTab(null)} />} />
        : <ModelView host={host} names={names} request={request} canEdit={opened.can.edit} revision={revision}
          editing={editing} refresh={refresh} />}
      {page === "model" && shownPreview && <section class="preview" aria-label="The grid as it would be">
        <p><b>The grid as it would be.</b> Nothing is changed yet.</p>
        <GridPane live={shownPreview} label="The grid as it would be" size={size} chosen={[]} setChosen={() => undefined} below copy={() => undefined}
          turn={() => undefined} apart={() => undefined} order={() => undefined} explain={() => undefined} panel={null} /></section>}
      {page === "grid" && <Notes shown={grid.live.shown} looks={grid.live.looks} />}
      {box && opening && <Box anchor={box.anchor} close={close} label={LABELS[opening.kind]}>
        {opening.kind === "word" && <WordMenu place={opening.place} words={words} names={names} request={request} host={host}
          ask={(next) => {
            if (opening.place.at === ADD || gone(opening.place, next, request)) close();
            void ask(next);
          }} choose={(column, choice) => void choose(column, choice)} go={(place) => setBox({ ...box, opening: { kind: "word", place } })} close={close} />}
        {opening.kind === "forms" && <FormsBox forms={said.forms} tell={setTold} />}
        {opening.kind === "keep" && <SavePivot names={names} request={request} make={make} done={close} />}
        {opening.kind === "save" && <SaveFile host={host} file={opened.file} revision={revision} saved={() => {
          close();
          setUnsaved(false);
          setTold(`Wrote ${opened.file}.`);
        }} />}
        {opening.kind === "export" && <Actions done={close} items={[
          ["Copy as a table", () => void copyGrid()],
          ["Copy as text", () => void copyText()],
          ...opened.endings.map((ending) => [ending, () => void exported(ending)] as [string, () => void]),
        ]} />}
        {opening.kind === "pivots" && <Actions done={close} items={names.pivots.map((each) => [each.about ? `${each.name}: ${each.about}` : each.name,
          () => void run(each.request)] as [string, () => void])} />}
        {opening.kind === "options" && <div class="menu">
          <label class="radio"><input type="checkbox" checked={request.totals} onChange={() => toggle({ totals: !request.totals })} /><span>totals</span></label>
          <label class="radio"><input type="checkbox" checked={request.show_empty} onChange={() => toggle({ show_empty: !request.show_empty })} />
            <span>members without rows too</span></label>
          <label class="radio"><input type="checkbox" checked={request.values_on === "rows"}
            onChange={() => toggle({ values_on: request.values_on === "rows" ? "columns" : "rows" })} /><span>values on rows</span></label>
        </div>}
      </Box>}
      <div role="status" aria-live="polite" class="told">{told}</div>
    </div>
  );
}

const LABELS: Record<Opening["kind"], string> = {
  word: "Change this word", forms: "The same request elsewhere", keep: "Keep this request", save: "Save to the model's file",
  export: "Export the grid", options: "Options of the request", pivots: "Saved pivots",
};

/** Whether a word has left its place. */
function gone(place: Place, next: Parts, before: Parts): boolean {
  const count = (request: Parts) => (isAxis(place.part) || place.part === "values" ? request[place.part].length : -1);
  return count(next) !== count(before);
}

function textOf(said: Said): string {
  return said.text.includes("values") ? said.text : `values   \n${said.text}`;
}

function Notes({ shown, looks }: { shown: Shown; looks: Shown["looks"] }) {
  return (
    <footer aria-label="Notes" tabIndex={0}>
      {shown.legend.map((each) => (
        <p class="legend">{each.shades.length
          ? each.shades.map((pair) => <i class="sample filled" style={{ "--f-light": pair[0], "--f-dark": pair[1] }} />)
          : <Looked looks={looks} look={each.look} text={each.sample} />}<span>{each.text}</span></p>))}
      {shown.notes.map((text) => <p>note: {text}</p>)}
    </footer>
  );
}
