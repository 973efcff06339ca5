// The members of a column: as many as there are, fetched where they are seen; ticked, searched, turned round.

import { h } from "preact";
import { useEffect, useRef, useState } from "preact/hooks";
import { Refused, type Host } from "./host";
import type { Choice, Member, MemberPage } from "./types";

const LINE = 25;
const PAGE = 200;
const WAIT = 60;

interface Props {
  host: Host; column: string; where: string; choice: Choice | null;
  choose?(choice: Choice): void;
}

const ticked = (choice: Choice | null, key: string) => choice === null || choice.rest !== choice.members.includes(key);

/** The choice with one member changed. */
export function flipped(choice: Choice | null, key: string): Choice {
  const before = choice ?? { rest: true, members: [] };
  const members = before.members.includes(key) ? before.members.filter((each) => each !== key) : [...before.members, key];
  return { rest: before.rest, members };
}

export function MemberList({ host, column, where, choice, choose }: Props) {
  const [like, setLike] = useState("");
  const [head, setHead] = useState<MemberPage | null>(null);
  const [pages, setPages] = useState<ReadonlyMap<number, Member[]>>(new Map());
  const [top, setTop] = useState(0);
  const [fault, setFault] = useState("");
  const asked = useRef(new Set<number>());
  const turn = useRef(0);
  /** The turn whose members are shown: the last ones stay until the next ones are there. */
  const shown = useRef(0);
  const box = useRef<HTMLDivElement>(null);

  const fetchPage = async (page: number, now: number) => {
    if (asked.current.has(page)) return;
    asked.current.add(page);
    try {
      const found = await host.ask<MemberPage>({
        kind: "members", column, where, like: like.trim(), first: page * PAGE, count: PAGE,
      }).answer;
      if (turn.current !== now) return;
      setFault("");
      setHead(found);
      const kept = shown.current === now;
      shown.current = now;
      setPages((before) => new Map(kept ? before : []).set(page, found.members));
    } catch (error) {
      if (error instanceof Refused && turn.current === now) setFault(`${error.fault.reason} ${error.fault.fix}`);
    }
  };
  useEffect(() => {
    const timer = setTimeout(() => {
      turn.current += 1;
      asked.current = new Set();
      if (box.current) box.current.scrollTop = 0;
      setTop(0);
      void fetchPage(0, turn.current);
    }, like ? WAIT : 0);
    return () => clearTimeout(timer);
  }, [column, where, like]);
  const height = box.current?.clientHeight || 240;
  const from = Math.max(0, Math.floor(top / LINE) - 4);
  const to = Math.min(head?.total ?? 0, Math.ceil((top + height) / LINE) + 4);
  useEffect(() => {
    for (let page = Math.floor(from / PAGE); page * PAGE < to; page += 1) void fetchPage(page, turn.current);
  }, [from, to, head]);

  const members = [...Array(Math.max(to - from, 0)).keys()].map((step) => {
    const at = from + step;
    return { at, member: pages.get(Math.floor(at / PAGE))?.[at % PAGE] };
  });
  const found = [...pages.values()].flat();
  const searching = like.trim() !== "";
  return (
    <div class="memberlist">
      <input type="search" aria-label={`Search members of ${column}`} placeholder="search members" value={like}
        onInput={(event) => setLike(event.currentTarget.value)} />
      {choose && <div class="buttons">
        <button onClick={() => choose({ rest: true, members: [] })}>all</button>
        <button onClick={() => choose({ rest: false, members: [] })}>none</button>
        <button onClick={() => choose({ rest: !(choice?.rest ?? true), members: choice?.members ?? [] })}>invert</button>
        {searching && head !== null && head.total <= PAGE &&
          <button onClick={() => choose({ rest: false, members: found.map((each) => each.key) })}>only these</button>}
      </div>}
      <div class="scrolled" ref={box} onScroll={(event) => setTop(event.currentTarget.scrollTop)} tabIndex={0} role="group" aria-label={`Members of ${column}`}>
        <div style={{ height: `${(head?.total ?? 0) * LINE}px`, position: "relative" }}>
          {members.map(({ at, member }) => (
            <div class={`choice ${member && !member.there ? "without" : ""}`} style={{ top: `${at * LINE}px` }} key={at}>
              {member === undefined ? <span class="none">…</span> : (
                <label title={member.there ? undefined : "It has no rows under these filters."}>
                  {choose && <input type="checkbox" checked={ticked(choice, member.key)}
                    onChange={() => choose(flipped(choice, member.key))} />}
                  <span>{member.text}</span><small>{member.count || "–"}</small>
                </label>)}
              {member !== undefined && choose &&
                <button class="only" aria-label={`Only ${member.text}`}
                  onClick={() => choose({ rest: false, members: [member.key] })}>only</button>}
            </div>
          ))}
        </div>
      </div>
      <p class="none" role="status">{fault || (head === null ? "…" :
        `${head.total.toLocaleString()} members${searching ? " found" : ""}; ${head.counts}`)}</p>
    </div>
  );
}
