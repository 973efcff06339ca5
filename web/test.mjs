// Runs the scripts' tests: those in TypeScript are bundled first, since Node does not read it.

import { spawnSync } from "node:child_process";
import { mkdtempSync, readdirSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { build } from "esbuild";

const files = readdirSync("test").filter((name) => /\.test\.(js|ts)$/.test(name)).map((name) => join("test", name));
const outdir = mkdtempSync(join(tmpdir(), "relatum-web-"));
await build({
  entryPoints: files, outdir, bundle: true, platform: "node", format: "esm", outExtension: { ".js": ".mjs" }, jsxFactory: "h",
  jsxFragment: "Fragment",
});
const made = readdirSync(outdir).map((name) => join(outdir, name));
const done = spawnSync(process.execPath, ["--test", ...made], { stdio: "inherit" });
rmSync(outdir, { recursive: true });
process.exitCode = done.status ?? 1;
