// Makes the console's page from src/, and a C++ file that holds all of it.
//
//   node build.mjs [CPP]     CPP: where to write the C++ file; none: the page alone, in dist/
//
// What was made before is kept while nothing that it is made from has changed.
import { spawnSync } from "node:child_process";
import { createHash } from "node:crypto";
import { existsSync, mkdirSync, readdirSync, readFileSync, rmSync, statSync, writeFileSync } from "node:fs";
import { dirname, join, resolve } from "node:path";
import { fileURLToPath } from "node:url";
import { gzipSync } from "node:zlib";

const here = dirname(fileURLToPath(import.meta.url));
const dist = join(here, "dist");
const description = join(here, "..", "docs", "control.openapi.yaml");

function filesBelow(folder) {
  return readdirSync(folder, { withFileTypes: true }).flatMap((entry) => {
    const path = join(folder, entry.name);
    return entry.isDirectory() ? filesBelow(path) : [path];
  });
}

function run(program, words) {
  const done = spawnSync(program, words, { cwd: here, encoding: "utf8" });
  if (done.status === 0) return;
  console.error(`${program} ${words.join(" ")}\n${done.stdout ?? ""}${done.stderr ?? ""}${done.error ?? ""}`);
  process.exit(1);
}

/** Installs the packages of the lock file, if those that are here are not of it. */
function installPackages() {
  const installed = join(here, "node_modules", ".package-lock.json");
  const lock = join(here, "package-lock.json");
  if (existsSync(installed) && statSync(installed).mtimeMs >= statSync(lock).mtimeMs) return;
  run("npm", ["ci", "--no-audit", "--no-fund", "--loglevel=error"]);
}

const types = {
  ".html": "text/html; charset=utf-8",
  ".js": "text/javascript; charset=utf-8",
  ".css": "text/css; charset=utf-8",
  ".svg": "image/svg+xml",
};

async function makePage() {
  installPackages();
  const own = (name) => join(here, "node_modules", ".bin", name);
  run(own("openapi-typescript"), [description, "-o", join(here, "src", "generated", "api.ts")]);
  run(own("tsc"), ["--noEmit"]);
  const { build } = await import("esbuild");
  rmSync(dist, { recursive: true, force: true });
  const made = await build({
    absWorkingDir: here,
    entryPoints: ["src/main.tsx", "src/style.css", "src/icon.svg"],
    outdir: "dist",
    bundle: true,
    splitting: true,
    minify: true,
    format: "esm",
    target: "es2021",
    jsx: "automatic",
    jsxImportSource: "preact",
    loader: { ".svg": "copy" },
    entryNames: "[name]-[hash]",
    chunkNames: "[name]-[hash]",
    assetNames: "[name]-[hash]",
    legalComments: "none",
    metafile: true,
  });
  const named = {};
  for (const [path, output] of Object.entries(made.metafile.outputs))
    if (output.entryPoint) named[output.entryPoint] = path.replace("dist/", "/");
  let html = readFileSync(join(here, "index.html"), "utf8");
  for (const [entry, path] of Object.entries(named)) html = html.replaceAll(`/${entry}`, path);
  writeFileSync(join(dist, "index.html"), html);
  for (const file of filesBelow(dist)) writeFileSync(`${file}.gz`, gzipSync(readFileSync(file), { level: 9 }));
}

function writeCpp(target) {
  const files = filesBelow(dist).filter((file) => file.endsWith(".gz"));
  const pieces = files.map((file, i) => {
    const plain = file.slice(0, -3);
    const path = plain.endsWith("index.html") ? "/" : plain.slice(dist.length);
    const type = types[plain.slice(plain.lastIndexOf("."))];
    return { file, i, path, type, bytes: statSync(file).size, lasting: path !== "/" };
  });
  const assembly = pieces
    .map(({ file, i }) => `asm(".section .rodata\\nporter_console_${i}:\\n.incbin \\"${file}\\"\\n.previous\\n");\n`)
    .join("");
  const names = pieces.map(({ i }) => `extern const char porter_console_${i}[];\n`).join("");
  const rows = pieces
    .map(
      ({ i, path, type, bytes, lasting }) =>
        `      {"${path}", "${type}", {porter_console_${i}, ${bytes}}, ${lasting}},\n`,
    )
    .join("");
  const text = `// Made by console/build.mjs.
#include "server/console/console_files.hpp"

${assembly}
extern "C" {
${names}}

namespace porter::server {

std::span<const ConsoleFile> console_files() {
  static const ConsoleFile kFiles[] = {
${rows}  };
  return kFiles;
}

}  // namespace porter::server
`;
  mkdirSync(dirname(target), { recursive: true });
  writeFileSync(target, text);
}

const inputs = [
  ...filesBelow(join(here, "src")).filter((file) => !file.includes("/generated/")),
  ...["index.html", "build.mjs", "package-lock.json", "tsconfig.json"].map((name) => join(here, name)),
  description,
].sort();
const hash = createHash("sha256");
for (const file of inputs) hash.update(`${file.slice(here.length)}\0${readFileSync(file)}\0`);
const state = hash.digest("hex");
const stamp = join(dist, "made-from");
mkdirSync(join(here, "src", "generated"), { recursive: true });
if (!existsSync(stamp) || readFileSync(stamp, "utf8") !== state) {
  await makePage();
  writeFileSync(stamp, state);
}
if (process.argv[2]) writeCpp(resolve(process.argv[2]));
