// A measure, written or changed, with its value under the present filters as it is typed.

import { h } from "preact";
import { useEffect, useRef, useState } from "preact/hooks";
import { quoted } from "./compose";
import { EditBox, FaultTold, RenameAndRemove, type Editing } from "./edits";
import { Refused, type Host } from "./host";
import { completions, type Completion } from "./typed";
import type { Cells, Fault, MeasureName, Names, Parts, Tried } from "./types";

interface Props {
  host: Host; names: Names; request: Parts; canEdit: boolean; editing: Editing; measure: MeasureName | null;
  made?(name: string): void;
}

const WAIT = 200;
const UNNAMED = "unnamed_measure";

export function MeasureForm({ host, names, request, canEdit, editing, measure, made }: Props) {
  const [name, setName] = useState(measure?.name ?? "");
  const [formula, setFormula] = useState(measure?.formula ?? "");
  const [format, setFormat] = useState(measure?.format ?? "");
  const [about, setAbout] = useState(measure?.about ?? "");
  const [value, setValue] = useState<{ text: string; notes: string[] } | null>(null);
  const [fault, setFault] = useState<Fault | null>(null);
  const [list, setList] = useState<{ from: number; found: Completion[] }>({ from: 0, found: [] });
  const area = useRef<HTMLTextAreaElement>(null);
  const turn = useRef(0);
  const edit = { edit: "writemeasure" as const, name: name || UNNAMED, formula, format, about };
  const changed = measure === null ? name !== "" && formula !== ""
    : formula !== measure.formula || format !== measure.format || about !== measure.about;
  useEffect(() => {
    const timer = setTimeout(async () => {
      turn.current += 1;
      const own = turn.current;
      if (!formula.trim()) return;
      const one: Parts = { ...request, rows: [], columns: [], values: [name.startsWith('"') ? name : quoted(edit.name)], totals: true, show_empty: false, style: [] };
      try {
        const found = await host.ask<Tried>({ kind: "try", edit, request: one }).answer;
        const cells = await host.ask<Cells>({ kind: "block", grid: found.grid, rows: [0, 1], columns: [0, 1] }).answer;
        if (own !== turn.current) return;
        setFault(null);
        setValue({ text: cells.texts[0] ?? "–", notes: found.shown?.notes ?? [] });
      } catch (error) {
        if (own === turn.current && error instanceof Refused) setFault(error.fault);
      }
    }, WAIT);
    return () => clearTimeout(timer);
  }, [formula, format, request.where, request.keep]);
  const complete = (each: Completion) => {
    const place = area.current?.selectionStart ?? formula.length;
    setFormula(formula.slice(0, list.from) + each.word + formula.slice(place));
    setList({ from: 0, found: [] });
    area.current?.focus();
  };
  return (
    <div>
      <h2>{measure?.name ?? "New measure"}</h2>
      {measure === null && <label class="typed"><span>name</span><input aria-label="name" value={name} spellcheck={false}
        onInput={(event) => setName(event.currentTarget.value.trim())} /></label>}
      <label class="typed"><span>formula</span>
        <textarea ref={area} aria-label="formula" rows={3} value={formula} readOnly={!canEdit} spellcheck={false}
          onInput={(event) => {
            setFormula(event.currentTarget.value);
            setList(completions({ ...names, pivots: [] }, event.currentTarget.value, event.currentTarget.selectionStart));
          }} onKeyDown={(event) => {
            if (event.key === "Tab" && list.found[0] && !event.shiftKey) {
              event.preventDefault();
              complete(list.found[0]);
            }
            if (event.key === "Escape") setList({ from: 0, found: [] });
          }} /></label>
      {list.found.length > 0 && <ul class="options" role="listbox" aria-label="Completions">{list.found.map((each, at) =>
        <li role="option" aria-selected={at === 0} class={at === 0 ? "at" : ""} onPointerDown={(event) => { event.preventDefault(); complete(each); }}>
          <span>{each.word}</span><small>{each.about}</small></li>)}</ul>}
      <label class="typed"><span>format</span><input aria-label="format" value={format} readOnly={!canEdit} placeholder="#,##0.00" spellcheck={false}
        onInput={(event) => setFormat(event.currentTarget.value)} /></label>
      <label class="typed"><span>meaning</span><input aria-label="meaning" value={about} readOnly={!canEdit}
        onInput={(event) => setAbout(event.currentTarget.value)} /></label>
      {fault && formula.trim() ? <FaultTold fault={fault} />
        : value && <p role="status">Its value under the present filters: <b class="value">{value.text}</b></p>}
      {!fault && value?.notes.map((note) => <p class="none">note: {note}</p>)}
      {canEdit && changed && !fault && <EditBox editing={editing} edit={edit} done={() => made?.(name)}
        label={measure === null ? "Add this measure" : "Change this measure"} />}
      {canEdit && measure && <RenameAndRemove editing={editing} name={measure.name} />}
    </div>
  );
}
