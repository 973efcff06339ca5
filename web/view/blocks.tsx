// Lines and tables of text, as a host tells them; and files that it hands over.

import { h } from "preact";
import type { FileBytes, TextBlock } from "./types";

export function Blocks({ blocks }: { blocks: TextBlock[] }) {
  return (
    <div class="blocks" tabIndex={0}>
      {blocks.map((block) => ("line" in block
        ? <p class={`${block.bold ? "bold" : ""} ${block.faint ? "none" : ""}`}>{block.line}</p>
        : <table>
          {block.heads.length > 0 && <thead>{block.heads.map((line) =>
            <tr>{line.map((cell) => (cell.t ? <th scope="col" class={cell.number ? "number" : ""}>{cell.t}</th> : <td />))}</tr>)}</thead>}
          <tbody>{block.rows.map((line) => <tr>{line.map((cell) => (
            <td class={`${cell.number ? "number" : ""} ${cell.bold ? "bold" : ""} ${cell.faint ? "none" : ""}`}>{cell.t}</td>))}</tr>)}
          </tbody>
        </table>))}
    </div>
  );
}

function bytesOf({ bytes }: FileBytes): Uint8Array<ArrayBuffer> {
  return Uint8Array.from(atob(bytes), (sign) => sign.charCodeAt(0));
}

/** What a file of text says. */
export function textOfFile(file: FileBytes): string {
  return new TextDecoder().decode(bytesOf(file));
}

/** Hands a file to the person: the browser puts it where it puts downloads. */
export function handOver(file: FileBytes): void {
  const { name } = file;
  const address = URL.createObjectURL(new Blob([bytesOf(file)]));
  const link = document.createElement("a");
  link.href = address;
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(address), 10_000);
}

/** A drawing as an address that an image takes: nothing in it can run there. */
export function pictureAddress(svg: string): string {
  let bytes = "";
  for (const byte of new TextEncoder().encode(svg)) bytes += String.fromCharCode(byte);
  return `data:image/svg+xml;base64,${btoa(bytes)}`;
}
