// The page: a grid in which only what is seen is drawn, lists to choose members from, a chart, filters and notes.

import { h } from "preact";
import { useEffect, useMemo, useRef, useState } from "preact/hooks";
import { Grid, Looked } from "./grid.tsx";
import { Picture } from "./picture.jsx";
import { flipped, only, ticked } from "./choice.js";
import { copied } from "./copy.js";
import { Table } from "./table.js";

const MOST_LISTED = 400;

export function Page({ page: given }) {
  const [state, setState] = useState(() => ({
    prepared: given.prepared.map(() => 0), chosen: {}, closed: new Set(), sort: null,
  }));
  const [dark, setDark] = useState(() => matchMedia("(prefers-color-scheme: dark)").matches);
  const [drawn, setDrawn] = useState(given.chart);
  const [listed, setListed] = useState(() => innerWidth > 900);
  const [about, setAbout] = useState(null);
  const [told, setTold] = useState("");
  const grid = given.grids[state.prepared.join(",")];
  // What belongs to the grid in view (its values, notes and legend) stands beside what all grids have in common.
  const page = useMemo(() => ({ ...given, ...grid }), [grid]);
  const table = useMemo(() => new Table(page), [page]);
  const change = (part) => setState((before) => ({ ...before, ...part }));
  const [pictured, setPictured] = useState(0);

  useEffect(() => {
    document.documentElement.dataset.mode = dark ? "dark" : "light";
  }, [dark]);
  useEffect(() => {
    if (told) {
      const timer = setTimeout(() => setTold(""), 4000);
      return () => clearTimeout(timer);
    }
    return undefined;
  }, [told]);

  const copy = async () => {
    const done = await copied(table.asText(state));
    setTold(done ? "Copied as text." : "The browser does not let this page copy.");
  };
  const hands = {
    copy, about: setAbout,
    fold: (at) => {
      const closed = new Set(state.closed);
      const name = table.name(at);
      if (closed.has(name)) closed.delete(name);
      else closed.add(name);
      change({ closed });
    },
    order: (at) => {
      const now = state.sort !== null && state.sort.column === at ? state.sort.down : null;
      change({ sort: now === null ? { column: at, down: true } : now ? { column: at, down: false } : null });
      setPictured(at);
    },
  };
  const anyChosen = Object.keys(state.chosen).length > 0 || state.prepared.some((each) => each > 0);
  return (
    <div class="page">
      <header>
        <h1>{page.title}</h1>
        <Filters page={page} state={state} />
        <div class="tools" role="toolbar" aria-label="View">
          {page.lists.length + page.prepared.length > 0 &&
            <button aria-pressed={listed} onClick={() => setListed(!listed)}>Choose members</button>}
          <button aria-pressed={drawn} onClick={() => setDrawn(!drawn)}>Chart</button>
          <button onClick={copy}>Copy as text</button>
          <button aria-pressed={dark} onClick={() => setDark(!dark)}>Dark</button>
          {(anyChosen || state.sort || state.closed.size > 0) &&
            <button onClick={() => change({ chosen: {}, closed: new Set(), sort: null, prepared: page.prepared.map(() => 0) })}>
              As asked</button>}
        </div>
      </header>
      <main class={listed ? "listed" : ""}>
        {listed && <Lists page={page} state={state} change={change} />}
        <Grid source={source(page, table, state)} hands={hands} size={page.size} sorted={state.sort} pictured={pictured} />
        {drawn && <Picture page={page} table={table} state={state} column={pictured} dark={dark} />}
      </main>
      <Notes page={page} table={table} state={state} />
      {about !== null && <About value={page.values[about]} close={() => setAbout(null)} />}
      <div role="status" aria-live="polite" class="told">{told}</div>
    </div>
  );
}

/** The grid as it is shown now, for drawing. */
function source(page, table, state) {
  const { grid } = table;
  const kind = (number) => (number === null ? "null" : number < 0 ? "negative" : "");
  return {
    label: page.title, heading: grid.heading, headWidth: grid.headWidth, depth: grid.heads, looks: page.looks,
    lines: table.visible(state), columns: table.visibleColumns(state),
    line: (at) => ({ ...grid.rows[at], parent: table.children.get(at).length > 0, open: !state.closed.has(table.name(at)) }),
    column: (at) => ({ ...grid.columns[at], value: Math.max(grid.columns[at].v, 0) }),
    name: (at) => table.name(at),
    cell: (line, column) => {
      const cell = table.cell(line, column, state);
      return { ...cell, kind: kind(cell.number) };
    },
    heads: (value) => page.values[value].heading,
  };
}

function Filters({ page, state }) {
  const own = page.prepared.flatMap((each, at) => state.prepared[at] > 0
    ? [`${each.label}: ${each.members[state.prepared[at] - 1].t}`] : []);
  const chosen = Object.entries(state.chosen).map(([field, choice]) => `${page.fields[field].label}: ${said(page, field, choice)}`);
  const every = [...page.filters, ...own, ...chosen];
  return <p class="filters">{every.length ? every.map((text) => <span>{text}</span>) : <span class="none">no filters</span>}</p>;
}

const MOST_NAMED = 3;

/** A choice in words: the members by name where they are few. */
function said(page, field, { rest, except }) {
  const { members } = page.lists.find((list) => String(list.field) === field);
  const names = members.filter((member) => except.has(member.c)).map((member) => member.t);
  const told = names.length > MOST_NAMED ? `${names.length} members` : names.join(", ");
  if (!rest) return told || "none";
  return `all but ${told}`;
}

// -- lists ------------------------------------------------------------------------------------------------------------

function Lists({ page, state, change }) {
  return (
    <aside aria-label="Members to show">
      {page.prepared.map((each, at) => <Prepared list={each} chosen={state.prepared[at]} choose={(number) => {
        const prepared = [...state.prepared];
        prepared[at] = number;
        change({ prepared });
      }} />)}
      {page.lists.map((list) => <List list={list} label={page.fields[list.field].label} choice={state.chosen[list.field]}
        counted={state.prepared.every((each) => each === 0)} choose={(choice) => {
          const chosen = { ...state.chosen };
          if (choice === undefined) delete chosen[list.field];
          else chosen[list.field] = choice;
          change({ chosen });
        }} />)}
    </aside>
  );
}

function Prepared({ list, chosen, choose }) {
  return (
    <fieldset>
      <legend>{list.label}</legend>
      <div class="members">
        {[{ t: "all", n: null }, ...list.members].map((member, at) => (
          <label class={member.there === false ? "without" : ""}>
            <input type="radio" name={list.name} checked={chosen === at} onChange={() => choose(at)} />
            <span>{member.t}</span>
            <small>{member.n ?? ""}</small>
          </label>
        ))}
      </div>
    </fieldset>
  );
}

function List({ list, label, choice, counted, choose }) {
  const [text, setText] = useState("");
  const wanted = text.trim().toLowerCase();
  const found = list.members.filter((member) => member.t.toLowerCase().includes(wanted));
  const every = list.members.filter((member) => member.there).map((member) => member.c);
  const count = every.filter((code) => ticked(choice, code)).length;
  const these = () => choose(only(found.filter((member) => member.there).map((member) => member.c)));
  return (
    <fieldset>
      <legend>{label} <small>{choice === undefined ? every.length : `${count} of ${every.length}`}</small></legend>
      <input type="search" aria-label={`Search ${label}`} placeholder="search" value={text}
        onInput={(event) => setText(event.target.value)} />
      <div class="buttons">
        <button onClick={() => choose(undefined)}>all</button>
        <button onClick={() => choose(only([]))}>none</button>
        {wanted && <button onClick={these}>just these</button>}
      </div>
      <div class="members">
        {found.slice(0, MOST_LISTED).map((member) => (
          <label class={member.there ? "" : "without"} title={member.there ? undefined : "no grid of this page shows it"}>
            <input type="checkbox" checked={member.there && ticked(choice, member.c)} disabled={!member.there}
              onChange={() => choose(flipped(choice, member.c, every))} />
            <span>{member.t}</span>
            <small>{counted ? member.n : ""}</small>
          </label>
        ))}
        {found.length > MOST_LISTED && <p class="none">{found.length - MOST_LISTED} more: search for them.</p>}
        {list.more > 0 && <p class="none">{list.more} members are not listed.</p>}
      </div>
    </fieldset>
  );
}

// -- told -------------------------------------------------------------------------------------------------------------

function Notes({ page, table, state }) {
  const struck = useMemo(() => {
    if (Object.keys(state.chosen).length === 0) return [];
    const columns = table.visibleColumns(state);
    return [...new Set(table.visible(state).flatMap((at) => columns.map((column) => table.cell(at, column, state).struck)))]
      .filter(Boolean);
  }, [table, state]);
  const every = [...struck.map((why) => `struck out, because it would be a different number now: ${why}`), ...page.notes];
  return (
    <footer aria-label="Notes">
      {page.legend.map((each) => (
        <p class="legend">
          {each.shades.length ? each.shades.map((pair) => <i class="sample filled"
            style={{ "--f-light": pair[0], "--f-dark": pair[1] }} />) : <Looked looks={page.looks} look={each.look} text={each.sample} />}
          <span>{each.text}</span></p>
      ))}
      {every.map((text) => <p>{text}</p>)}
    </footer>
  );
}

function About({ value, close }) {
  const button = useRef(null);
  useEffect(() => button.current.focus(), []);
  return (
    <div class="about-box" role="dialog" aria-label={`About ${value.heading}`}
      onKeyDown={(event) => event.key === "Escape" && close()}>
      <h2>{value.heading}</h2>
      {value.about && <p>{value.about}</p>}
      <pre>{value.formula}</pre>
      {value.words && <p class="none">{value.words}</p>}
      <button ref={button} onClick={close}>Close</button>
    </div>
  );
}
