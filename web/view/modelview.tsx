// The model: its drawing, tables, relationships and measures, each to be looked at and changed.

import { h } from "preact";
import { useEffect, useRef, useState } from "preact/hooks";
import { Refused, type Host } from "./host";
import { EditBox, RenameAndRemove, type Editing } from "./edits";
import { MeasureForm } from "./measure";
import { useAnswer } from "./panel";
import type { Finding, ModelSeen, Names, Parts, RelationshipSeen, TableSeen } from "./types";

export interface ModelProps {
  host: Host; names: Names; request: Parts; canEdit: boolean; revision: number;
  editing: Editing; refresh(): Promise<string>;
}

type Thing = { kind: "table" | "relationship" | "measure"; name: string } | { kind: "new" } | { kind: "check" };

const size = (bytes: number) => (bytes >= 1 << 20 ? `${(bytes / (1 << 20)).toFixed(1)} MB` : `${Math.ceil(bytes / 1024)} KB`);

export function ModelView(props: ModelProps) {
  const { host, canEdit, revision } = props;
  const { answer: model, fault } = useAnswer<ModelSeen>(host, { kind: "model", revision });
  const [thing, setThing] = useState<Thing>({ kind: "check" });
  const [told, setTold] = useState("");
  if (model === null) return <main class="model"><p class={fault ? "fault" : "none"} role="status">{fault || "Reading the model…"}</p></main>;
  const item = (own: Thing & { name: string }, text: string) => (
    <li><button aria-pressed={"name" in thing && thing.kind === own.kind && thing.name === own.name} onClick={() => setThing(own)}>{text}</button></li>
  );
  const table = thing.kind === "table" ? model.tables.find((each) => each.name === thing.name) : undefined;
  const related = thing.kind === "relationship" ? model.relationships.find((each) => each.link === thing.name) : undefined;
  const measure = thing.kind === "measure" ? model.measures.find((each) => each.name === thing.name) : undefined;
  const gone = (thing.kind === "table" && !table) || (thing.kind === "relationship" && !related) || (thing.kind === "measure" && !measure);
  return (
    <main class="model">
      <nav aria-label="Parts of the model">
        <div class="buttons">
          <button aria-pressed={thing.kind === "check"} onClick={() => setThing({ kind: "check" })}>Check</button>
          <button onClick={async () => {
            try {
              setTold(await props.refresh());
            } catch (error) {
              setTold(error instanceof Refused ? error.fault.reason : String(error));
            }
          }}>Refresh</button>
        </div>
        {told && <pre class="none" role="status">{told}</pre>}
        <h2>Tables</h2><ul>{model.tables.map((each) => item({ kind: "table", name: each.name }, each.name))}</ul>
        <h2>Relationships</h2><ul>{model.relationships.map((each) => item({ kind: "relationship", name: each.link }, each.link))}</ul>
        <h2>Measures</h2><ul>{model.measures.map((each) => item({ kind: "measure", name: each.name }, each.name))}</ul>
        {canEdit && <button onClick={() => setThing({ kind: "new" })}>New measure</button>}
      </nav>
      <Drawing model={model} chosen={table?.id ?? related?.id ?? ""} choose={(id) => {
        const one = model.tables.find((each) => each.id === id);
        const other = model.relationships.find((each) => each.id === id);
        if (one) setThing({ kind: "table", name: one.name });
        else if (other) setThing({ kind: "relationship", name: other.link });
      }} />
      <section class="details" aria-label="Details" tabIndex={0}>
        {table && <TableDetails {...props} table={table} />}
        {related && <RelationshipDetails {...props} related={related} key={related.link} />}
        {measure && <MeasureForm {...props} measure={measure} key={measure.name} />}
        {thing.kind === "new" && <MeasureForm {...props} measure={null} made={(name) => setThing({ kind: "measure", name })} />}
        {(thing.kind === "check" || gone) && <Checked host={host} revision={revision} />}
      </section>
    </main>
  );
}

/** The drawing, in which tables and lines can be chosen. */
function Drawing({ model, chosen, choose }: { model: ModelSeen; chosen: string; choose(id: string): void }) {
  const box = useRef<HTMLDivElement>(null);
  useEffect(() => {
    const drawn = new DOMParser().parseFromString(model.svg, "image/svg+xml").documentElement;
    drawn.querySelectorAll("script, foreignObject").forEach((each) => each.remove());
    drawn.querySelectorAll("a").forEach((each) => each.removeAttribute("xlink:href"));
    drawn.removeAttribute("width");
    drawn.removeAttribute("height");
    box.current?.replaceChildren(document.importNode(drawn, true));
  }, [model.svg]);
  useEffect(() => {
    box.current?.querySelectorAll(".picked").forEach((each) => each.classList.remove("picked"));
    if (chosen) box.current?.querySelector(`#${CSS.escape(chosen)}`)?.classList.add("picked");
  }, [chosen, model.svg]);
  return <div class="drawing" ref={box} role="img" aria-label="The tables and their relationships, as listed beside it"
    onClick={(event) => {
      const at = event.target instanceof Element ? event.target.closest("[id^='table-'], [id^='relationship-']") : null;
      if (at) choose(at.id);
    }} />;
}

function TableDetails({ table, canEdit, editing }: ModelProps & { table: TableSeen }) {
  return (
    <div>
      <h2>{table.name}</h2>
      <p>{table.about}</p>
      <p class="none">{[table.kind, `${table.rows.toLocaleString()} rows`, size(table.bytes), table.key.length ? `key ${table.key.join(", ")}` : "",
        table.source && `from ${table.source}`].filter(Boolean).join(" · ")}</p>
      <div class="blocks" tabIndex={0}><table>
        <thead><tr><th>column</th><th>type</th><th class="number">members</th><th class="number">nulls</th><th class="number">memory</th><th>stored as</th></tr></thead>
        <tbody>{table.columns.map((each) => (
          <tr><td><b>{each.name}</b>{(each.formula || each.about) && <p class="none">{each.formula || each.about}</p>}</td><td>{each.type}</td>
            <td class="number">{each.members.toLocaleString()}</td><td class="number">{each.nulls ? each.nulls.toLocaleString() : ""}</td>
            <td class="number">{size(each.bytes)}</td><td>{each.stored}</td></tr>))}</tbody>
      </table></div>
      {canEdit && <RenameAndRemove editing={editing} name={table.name} />}
    </div>
  );
}

function RelationshipDetails({ host, related, canEdit, editing, revision }: ModelProps & { related: RelationshipSeen }) {
  const { answer } = useAnswer<Finding[]>(host, { kind: "relationship", link: related.link, revision });
  const [direction, setDirection] = useState(related.direction);
  const [standby, setStandby] = useState(related.standby);
  const changed = direction !== related.direction || standby !== related.standby;
  const share = related.rows ? `${((100 * related.matched) / related.rows).toFixed(2)}% of ${related.rows.toLocaleString()} rows have a match` : "no rows";
  return (
    <div>
      <h2>{related.link}</h2>
      <p class="none">{[related.kind.replaceAll("_", " "), `match ${related.match}`, `filters ${related.filters}`, share].join(" · ")}</p>
      {related.problem && <p class="fault">{related.problem}</p>}
      {answer && <Findings findings={answer} />}
      {canEdit && <fieldset><legend>Direction in which filters travel</legend>
        {related.directions.map((each) => (
          <label class="radio"><input type="radio" name="direction" checked={direction === each} onChange={() => setDirection(each)} />
            <span>{each}</span></label>))}
        <label class="radio"><input type="checkbox" checked={standby} onChange={() => setStandby(!standby)} />
          <span>standby: used only where a formula says via</span></label>
      </fieldset>}
      {canEdit && changed && <EditBox editing={editing} edit={{ edit: "direct", link: related.link, direction, standby }}
        done={() => undefined} />}
      {canEdit && <RenameAndRemove editing={editing} name={related.link} onlyRemove />}
    </div>
  );
}

export function Findings({ findings }: { findings: Finding[] }) {
  if (!findings.length) return <p class="none">Nothing to remark.</p>;
  return (
    <ul class="findings">{findings.map((each) => (
      <li class={each.severity}><b>{each.severity}</b> {each.subject}<p>{each.text} {each.effect}</p>
        {each.fix && <p class="none">{each.fix}</p>}</li>))}</ul>
  );
}

function Checked({ host, revision }: { host: Host; revision: number }) {
  const { answer, fault } = useAnswer<{ findings: Finding[]; summary: string }>(host, { kind: "check", revision });
  return (
    <div>
      <h2>Check</h2>
      {fault && <p class="fault">{fault}</p>}
      {answer === null && !fault && <p class="none" role="status">Checking…</p>}
      {answer && <p><b>{answer.summary}</b></p>}
      {answer && <Findings findings={answer.findings} />}
    </div>
  );
}
