// Changes of the model: what each would do is told first, and nothing is written before it is saved.

import { h } from "preact";
import { useState } from "preact/hooks";
import { Refused, type Host } from "./host";
import { useAnswer } from "./panel";
import type { Cells, Edit, Fault, Impact, Parts, Shown, Tried } from "./types";

export interface Preview { number: number; shown: Shown; cells?: Cells }

export interface Editing {
  host: Host; request: Parts; revision: number;
  /** Makes an edit; the page asks again then. */
  make(edit: Edit): Promise<void>;
  /** Shows what the grid would be, beside the edit. */
  preview(grid: Preview | null): void;
}

export function ImpactTold({ impact }: { impact: Impact }) {
  const { breaks, changes } = impact;
  if (!breaks.length && !changes.length) return <p class="none">Nothing depends on {impact.thing}.</p>;
  return (
    <div>
      {breaks.length > 0 && <p><b>Needed by</b> {breaks.map((each) => each.name).join(", ")}</p>}
      {changes.map((each) => <p><b>{each.names.join(", ")}</b>: {each.effect}</p>)}
    </div>
  );
}

export function faultText(error: unknown): string {
  if (!(error instanceof Refused)) return String(error);
  return `${error.fault.reason} ${error.fault.fix}`.trim();
}

export function FaultTold({ fault }: { fault: Fault }) {
  return (
    <div class="fault" role="alert">
      {fault.text && <pre>{`${fault.text.replaceAll("\n", " ")}\n${" ".repeat(fault.start)}${"^".repeat(Math.max(1, fault.stop - fault.start))}`}</pre>}
      <p>{fault.reason} {fault.fix}</p>
    </div>
  );
}

/** One edit: what it changes, and the button that makes it. */
export function EditBox({ editing, edit, done, label = "Make this change" }: {
  editing: Editing; edit: Edit; done(): void; label?: string;
}) {
  const { answer, fault } = useAnswer<Tried>(editing.host, { kind: "try", edit, request: editing.request, revision: editing.revision });
  const [wrong, setWrong] = useState("");
  const [shown, setShown] = useState(false);
  return (
    <div class="tried" role="group" aria-label="What this would change">
      {fault && <p class="fault" role="status">{fault}</p>}
      {answer && <div>
        {answer.changes.map((each) => <p>{each}</p>)}
        {answer.impact && <ImpactTold impact={answer.impact} />}
        {answer.moved && <p><b>{answer.moved}</b></p>}
        <div class="buttons">
          <button class="main" onClick={async () => {
            try {
              editing.preview(null);
              await editing.make(edit);
              done();
            } catch (error) {
              setWrong(faultText(error));
            }
          }}>{label}</button>
          {answer.grid !== undefined && answer.shown !== undefined && <button aria-pressed={shown} onClick={() => {
            editing.preview(shown ? null : { number: answer.grid!, shown: answer.shown!, ...(answer.cells ? { cells: answer.cells } : {}) });
            setShown(!shown);
          }}>See the grid as it would be</button>}
        </div>
      </div>}
      {wrong && <p class="fault" role="alert">{wrong}</p>}
    </div>
  );
}

export function RenameAndRemove({ editing, name, onlyRemove = false }: { editing: Editing; name: string; onlyRemove?: boolean }) {
  const [next, setNext] = useState("");
  const [removing, setRemoving] = useState(false);
  const [force, setForce] = useState(false);
  return (
    <div class="rename">
      {!onlyRemove && <label class="typed"><span>rename to</span>
        <input value={next} aria-label={`Rename ${name} to`} onInput={(event) => setNext(event.currentTarget.value)} spellcheck={false} /></label>}
      {next.trim() && <EditBox editing={editing} edit={{ edit: "rename", name, new: next.trim() }} label="Rename" done={() => setNext("")} />}
      <div class="buttons"><button aria-pressed={removing} onClick={() => setRemoving(!removing)}>Remove…</button>
        {removing && <label class="radio"><input type="checkbox" checked={force} onChange={() => setForce(!force)} />
          <span>and all that needs it</span></label>}</div>
      {removing && <EditBox editing={editing} edit={{ edit: "remove", name, force }} label="Remove" done={() => setRemoving(false)} />}
    </div>
  );
}
