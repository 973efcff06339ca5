// Bundles the page's script and style into the package, with the licences of what is inside.
// node build.mjs writes them; node build.mjs --check fails where what is written is another thing.

import { readFileSync, writeFileSync } from "node:fs";
import { build } from "esbuild";

const out = new URL("../src/relatum/present/page/", import.meta.url);
const INSIDE = ["chart.js", "@kurkle/color", "preact"];
const common = { bundle: true, minify: true, write: false, target: "es2022", charset: "utf8", legalComments: "none" };

const script = await build({
  ...common, entryPoints: ["src/main.jsx"], format: "iife", jsxFactory: "h", jsxFragment: "Fragment",
});
const style = await build({ ...common, entryPoints: ["src/page.css"] });
const bundled = async (entry, format) => (await build({
  ...common, entryPoints: [entry], format, jsxFactory: "h", jsxFragment: "Fragment",
})).outputFiles[0].text;
// Keywords with a blank before their brackets, as in the sources; nothing ends a script tag that holds it.
const tidy = (text) => text.replaceAll("</script", "<\\/script").replaceAll(/\bswitch\(/g, "switch (");

const licences = INSIDE.map((name) => {
  const { version, license } = JSON.parse(readFileSync(`node_modules/${name}/package.json`, "utf8"));
  const file = ["LICENSE", "LICENSE.md"].map((each) => `node_modules/${name}/${each}`)
    .map((path) => { try { return readFileSync(path, "utf8"); } catch { return null; } }).find((text) => text !== null);
  if (!file) throw new Error(`${name} has no licence file`);
  return `${name} ${version} (${license})\n\n${file.trim()}\n`;
});
const files = {
  "page.js": tidy(script.outputFiles[0].text),
  "page.css": style.outputFiles[0].text,
  "live.js": tidy(await bundled("view/live.tsx", "iife")),
  "live.css": await bundled("view/served.css"),
  "widget.js": tidy(await bundled("view/widget.tsx", "esm")),
  "widget.css": await bundled("view/widget.css"),
  "LICENCES.txt": licences.join("\n----\n\n"),
};

// Lets the documentation's search run where pages are opened as files.
const worker = "iframe-worker";
files["../../../../docs/assets/iframe-worker.js"] = `/*! ${worker} ${JSON.parse(readFileSync(`node_modules/${worker}/package.json`, "utf8")).version}\n${
  readFileSync(`node_modules/${worker}/LICENSE`, "utf8").trim()} */\n${readFileSync(`node_modules/${worker}/shim/index.js`, "utf8")}`;

let stale = false;
for (const [name, text] of Object.entries(files)) {
  const path = new URL(name, out);
  if (!process.argv.includes("--check")) writeFileSync(path, text);
  else if (readFileSync(path, "utf8") !== text) {
    console.error(`${name} is not what the sources give: run npm run build in web/`);
    stale = true;
  }
}
process.exitCode = stale ? 1 : 0;
