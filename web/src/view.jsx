// The page: a grid in which only what is seen is drawn, lists to choose members from, a chart, filters and notes.

import { Fragment, h } from "preact";
import { useEffect, useLayoutEffect, useMemo, useRef, useState } from "preact/hooks";
import { Picture } from "./picture.jsx";
import { flipped, only, ticked } from "./choice.js";
import { copied } from "./copy.js";
import { Table } from "./table.js";

const LINE = 27;
const AHEAD = 8;
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
        <Grid page={page} table={table} state={state} change={change} tell={setAbout} picture={setPictured}
          pictured={pictured} copy={copy} />
        {drawn && <Picture page={page} table={table} state={state} column={pictured} dark={dark} />}
      </main>
      <Notes page={page} table={table} state={state} />
      {about !== null && <About value={page.values[about]} close={() => setAbout(null)} />}
      <div role="status" aria-live="polite" class="told">{told}</div>
    </div>
  );
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

// -- grid -------------------------------------------------------------------------------------------------------------

function useWindow(box, lines, widths, first, heads) {
  const [seen, setSeen] = useState({ top: 0, left: 0, height: 700, width: 1200, print: false });
  useLayoutEffect(() => {
    const look = () => setSeen((before) => ({
      ...before, top: box.current.scrollTop, left: box.current.scrollLeft,
      height: box.current.clientHeight, width: box.current.clientWidth,
    }));
    const print = (on) => () => setSeen((before) => ({ ...before, print: on }));
    const [before, after] = [print(true), print(false)];
    look();
    const watch = new ResizeObserver(look);
    watch.observe(box.current);
    box.current.addEventListener("scroll", look, { passive: true });
    addEventListener("beforeprint", before);
    addEventListener("afterprint", after);
    return () => {
      watch.disconnect();
      removeEventListener("beforeprint", before);
      removeEventListener("afterprint", after);
    };
  }, []);
  const from = seen.print ? 0 : Math.max(0, Math.floor(seen.top / LINE) - AHEAD);
  const to = seen.print ? lines : Math.min(lines, Math.ceil((seen.top + seen.height - heads * LINE) / LINE) + AHEAD);
  const starts = [];
  let at = first;
  widths.forEach((width) => {
    starts.push(at);
    at += width;
  });
  const shown = widths.map((_, place) => place).filter((place) => seen.print ||
    (starts[place] + widths[place] > seen.left && starts[place] < seen.left + seen.width + 200));
  return { from, to, starts, total: at, shown };
}

function Grid({ page, table, state, change, tell, picture, pictured, copy }) {
  const box = useRef(null);
  const { grid } = table;
  const lines = table.visible(state);
  const columns = table.visibleColumns(state);
  const em = page.size * 0.62;
  const first = Math.min(Math.max(grid.headWidth * em + 44, 120), Math.max(innerWidth * 0.45, 140));
  const widths = columns.map((at) => grid.columns[at].w * em + 26);
  const { from, to, starts, total, shown } = useWindow(box, lines.length, widths, first, grid.heads);
  const [place, setPlace] = useState([0, -1]);
  const row = Math.min(place[0], lines.length - 1);
  const column = Math.min(place[1], columns.length - 1);

  const flip = (at) => {
    const closed = new Set(state.closed);
    const name = table.name(at);
    if (closed.has(name)) closed.delete(name);
    else closed.add(name);
    change({ closed });
  };
  const order = (at) => {
    const now = state.sort !== null && state.sort.column === at ? state.sort.down : null;
    change({ sort: now === null ? { column: at, down: true } : now ? { column: at, down: false } : null });
    picture(at);
  };
  const go = (to_, column_) => {
    const next = [Math.max(0, Math.min(to_, lines.length - 1)), Math.max(-1, Math.min(column_, columns.length - 1))];
    setPlace(next);
    const top = next[0] * LINE;
    const room = box.current.clientHeight - (grid.heads + 1) * LINE;
    if (top < box.current.scrollTop) box.current.scrollTop = top;
    if (top > box.current.scrollTop + room) box.current.scrollTop = top - room;
    if (next[1] >= 0) {
      const [start, stop] = [starts[next[1]] - first, starts[next[1]] + widths[next[1]]];
      if (start < box.current.scrollLeft) box.current.scrollLeft = start;
      if (stop > box.current.scrollLeft + box.current.clientWidth) box.current.scrollLeft = stop - box.current.clientWidth;
    }
  };
  const key = (event) => {
    const at = lines[row];
    const parent = at !== undefined && table.children.get(at).length > 0;
    const open = parent && !state.closed.has(table.name(at));
    const page_ = Math.floor(box.current.clientHeight / LINE) - 3;
    const moves = {
      ArrowDown: () => go(row + 1, column), ArrowUp: () => go(row - 1, column),
      ArrowRight: () => (column < 0 && parent && !open ? flip(at) : go(row, column + 1)),
      ArrowLeft: () => (column < 0 && parent && open ? flip(at) : go(row, column - 1)),
      PageDown: () => go(row + page_, column), PageUp: () => go(row - page_, column),
      Home: () => go(event.ctrlKey ? 0 : row, -1), End: () => go(event.ctrlKey ? lines.length - 1 : row, columns.length - 1),
      Enter: () => (column < 0 && parent ? flip(at) : column >= 0 ? order(columns[column]) : null),
      " ": () => (parent ? flip(at) : null),
    };
    if ((event.ctrlKey || event.metaKey) && event.key === "c" && String(getSelection()) === "") {
      event.preventDefault();
      copy();
    } else if (moves[event.key]) {
      event.preventDefault();
      moves[event.key]();
    }
  };
  const sizes = { "--first": `${first}px`, width: `${total}px`, height: `${(lines.length + grid.heads) * LINE}px` };
  const cellName = (line, at) => `cell-${line}-${at}`;
  return (
    <section class="grid" ref={box} role="treegrid" tabIndex={0} aria-label={page.title} onKeyDown={key}
      aria-rowcount={lines.length + grid.heads} aria-colcount={columns.length + 1}
      aria-activedescendant={cellName(row, column)} style={{ "--line": `${LINE}px` }}>
      <div class="sheet" style={sizes}>
        <Heads grid={grid} columns={columns} shown={shown} starts={starts} widths={widths} order={order} state={state}
          tell={tell} page={page} pictured={pictured} total={total} />
        {lines.slice(from, to).map((at, step) => (
          <Line key={table.name(at)} page={page} table={table} at={at} number={from + step} columns={columns} shown={shown}
            starts={starts} widths={widths} state={state} flip={flip} total={total}
            active={from + step === row ? column : null} pick={(column_) => go(from + step, column_)} cellName={cellName} />
        ))}
      </div>
    </section>
  );
}

function Heads({ grid, columns, shown, starts, widths, order, state, tell, page, pictured, total }) {
  const levels = [...Array(grid.heads).keys()];
  const last = grid.heads - 1;
  return (
    <div class="heads" style={{ width: `${total}px`, height: `${grid.heads * LINE}px` }}>
      {levels.map((level) => (
        <div role="row" aria-rowindex={level + 1}>
          <div role="columnheader" class="cell first head" style={{ top: `${level * LINE}px` }} aria-colindex={1}>
            {level === last ? grid.heading : ""}</div>
          {shown.map((place) => {
            const at = columns[place];
            const label = grid.columns[at].labels[level];
            const before = place > 0 && shown[0] !== place ? grid.columns[columns[place - 1]] : null;
            const again = level < last && before !== null && label !== undefined &&
              before.labels.slice(0, level + 1).every((each, depth) => each.t === grid.columns[at].labels[depth].t &&
                each.c === grid.columns[at].labels[depth].c);
            const value = Math.max(grid.columns[at].v, 0);
            const sorted = state.sort !== null && state.sort.column === at;
            const style = { left: `${starts[place]}px`, width: `${widths[place]}px`, top: `${level * LINE}px` };
            if (level < last) {
              return <div role="columnheader" class="cell head up" style={style} aria-colindex={place + 2}>
                <Look page={page} look={label?.l} text={again ? "" : label?.t ?? ""} /></div>;
            }
            return (
              <div role="columnheader" class={`cell head ${at === pictured ? "pictured" : ""}`} style={style}
                aria-colindex={place + 2} aria-sort={sorted ? (state.sort.down ? "descending" : "ascending") : "none"}>
                <button class="about" aria-label={`About ${page.values[value].heading}`} onClick={() => tell(value)}>?</button>
                <button class="order" title="Order by this column" onClick={() => order(at)}>
                  {sorted ? (state.sort.down ? "↓ " : "↑ ") : ""}{label?.t || page.values[value].heading}</button>
              </div>
            );
          })}
        </div>
      ))}
    </div>
  );
}

function Line({ page, table, at, number, columns, shown, starts, widths, state, flip, active, pick, cellName, total }) {
  const { grid } = table;
  const row = grid.rows[at];
  const parent = table.children.get(at).length > 0;
  const open = !state.closed.has(table.name(at));
  const isTotal = row.k === "total" || row.total;
  return (
    <div role="row" class={`line ${isTotal ? "total" : ""} ${row.k.replace(" ", "-")}`} aria-level={row.d + 1}
      aria-rowindex={number + grid.heads + 1} aria-expanded={parent ? String(open) : undefined}
      style={{ top: `${(number + grid.heads) * LINE}px`, width: `${total}px` }}>
      <div role="rowheader" id={cellName(number, -1)} class={`cell first ${active === -1 ? "active" : ""}`} title={row.t}
        aria-colindex={1} style={{ paddingLeft: `${8 + row.d * 16}px` }} onClick={() => pick(-1)}>
        {parent ? <button class="fold" tabIndex={-1} aria-label={`${open ? "Close" : "Open"} ${row.t}`}
          onClick={() => flip(at)}>{open ? "▾" : "▸"}</button> : <i class="fold" />}
        <Look page={page} look={row.l} text={row.t} />
      </div>
      {shown.map((place) => {
        const cell = table.cell(at, columns[place], state);
        const style = { left: `${starts[place]}px`, width: `${widths[place]}px` };
        const names = ["cell", active === place ? "active" : "", cell.struck ? "struck" : "",
          grid.columns[columns[place]].total ? "total" : "", cell.number === null ? "null" : cell.number < 0 ? "negative" : ""];
        return (
          <div role="gridcell" id={cellName(number, place)} class={names.filter(Boolean).join(" ")} style={style}
            aria-colindex={place + 2} title={cell.struck || undefined} onClick={() => pick(place)}>
            {cell.text === null ? "" : <Look page={page} look={cell.look} text={cell.text} />}
            {cell.struck && <span class="hidden"> struck out: {cell.struck}</span>}
          </div>
        );
      })}
    </div>
  );
}

function Look({ page, look, text }) {
  const own = look ? page.looks[look] : null;
  if (!own) return <span>{text}</span>;
  const style = {};
  if (own.colour) Object.assign(style, { "--c-light": own.colour[0], "--c-dark": own.colour[1] });
  if (own.fill) Object.assign(style, { "--f-light": own.fill[0], "--f-dark": own.fill[1] });
  if (own.bold !== null) style.fontWeight = own.bold ? 700 : 400;
  const bar = own.bar && { left: `${own.bar[0] * 100}%`, width: `${(own.bar[1] - own.bar[0]) * 100}%`,
    "--f-light": own.barPaint[0], "--f-dark": own.barPaint[1] };
  return (
    <Fragment>
      {bar && <span class="track"><i class="bar filled" style={bar} /></span>}
      <span class={`look ${own.colour ? "coloured" : ""} ${own.fill ? "filled" : ""}`} style={style}>
        {own.mark && text ? `${own.mark} ${text}` : text}</span>
    </Fragment>
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
            style={{ "--f-light": pair[0], "--f-dark": pair[1] }} />) : <Look page={page} look={each.look} text={each.sample} />}
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
