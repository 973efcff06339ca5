// The request as text to be copied, saved pivots, and what is written to the model's file.

import { h } from "preact";
import { useState } from "preact/hooks";
import { copied } from "../src/copy.js";
import { faultText } from "./edits";
import type { Host } from "./host";
import { useAnswer } from "./panel";
import type { Edit, Forms, Names, Parts } from "./types";
import { quoted } from "./compose";

const KINDS: [keyof Forms, string][] = [["shell", "shell command"], ["python", "Python"], ["file", "model file"]];

/** The same request as a shell command, as Python and as an entry of the model's file. */
export function FormsBox({ forms, tell }: { forms: Forms; tell(text: string): void }) {
  return (
    <div class="menu wide">
      <h2>The same request elsewhere</h2>
      {KINDS.map(([kind, label]) => (
        <section><div class="buttons"><b>{label}</b><button onClick={async () =>
          tell(await copied(forms[kind]) ? `Copied: the ${label}.` : "The browser does not let this page copy.")}>Copy</button></div>
        <pre tabIndex={0}>{forms[kind]}</pre></section>
      ))}
    </div>
  );
}

export function SavePivot({ names, request, make, done }: {
  names: Names; request: Parts; make(edit: Edit): Promise<void>; done(name: string): void;
}) {
  const [name, setName] = useState("");
  const [about, setAbout] = useState("");
  const [fault, setFault] = useState("");
  const there = names.pivots.find((each) => each.name === quoted(name));
  const save = async () => {
    try {
      await make({ edit: "keeppivot", name, request, about });
      done(name);
    } catch (error) {
      setFault(faultText(error));
    }
  };
  return (
    <form class="menu" onSubmit={(event) => {
      event.preventDefault();
      if (name) void save();
    }}>
      <h2>Keep this request as a pivot of the model</h2>
      <label class="typed"><span>name</span><input aria-label="name of the pivot" value={name} spellcheck={false}
        onInput={(event) => setName(event.currentTarget.value.trim())} /></label>
      <label class="typed"><span>meaning</span><input aria-label="what it is for" value={about}
        onInput={(event) => setAbout(event.currentTarget.value)} /></label>
      {there && <p class="fault">{there.name} is there already{there.about ? ` (${there.about})` : ""}; it would be replaced. It asks:
        <br />{[...there.request.values, ...there.request.rows, ...there.request.columns, there.request.where].filter(Boolean).join(" · ")}</p>}
      {fault && <p class="fault" role="alert">{fault}</p>}
      <button type="submit" class="main" disabled={!name}>{there ? "Replace it" : "Keep it"}</button>
      <p class="none">It is written to the file when you save the model.</p>
    </form>
  );
}

/** What saving would write, line by line, and the button that does. */
export function SaveFile({ host, file, revision, saved }: { host: Host; file: string; revision: number; saved(): void }) {
  const { answer, fault } = useAnswer<{ lines: string[] }>(host, { kind: "unsaved", revision });
  const [wrong, setWrong] = useState("");
  const none = answer !== null && answer.lines.length === 0;
  const kind = (line: string) => (line.startsWith("+") ? "good" : line.startsWith("-") ? "bad" : "none");
  return (
    <div class="menu wide">
      <h2>Save to {file}</h2>
      {(fault || wrong) && <p class="fault" role="alert">{fault || wrong}</p>}
      {none && <p>The file says all of this already.</p>}
      {answer && !none && <pre tabIndex={0} class="lines">{answer.lines.map((line) => <span class={kind(line)}>{`${line}\n`}</span>)}</pre>}
      {answer && !none && <button class="main" onClick={async () => {
        try {
          await host.ask({ kind: "save" }).answer;
          saved();
        } catch (error) {
          setWrong(faultText(error));
        }
      }}>Write the file</button>}
    </div>
  );
}
