// The parts of the console that compute, on their own.
import assert from "node:assert/strict";
import { mkdtempSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { dirname, join } from "node:path";
import { after, before, test } from "node:test";
import { fileURLToPath, pathToFileURL } from "node:url";
import { build } from "esbuild";

const here = dirname(fileURLToPath(import.meta.url));
const folder = mkdtempSync(join(tmpdir(), "porter-units-"));
const parts = {};

before(async () => {
  const names = ["filter", "format", "bytes", "parts/ports"];
  await build({
    entryPoints: names.map((name) => join(here, "..", "src", `${name}.ts`)),
    outdir: folder,
    outbase: join(here, "..", "src"),
    outExtension: { ".js": ".mjs" },
    bundle: true,
    format: "esm",
    platform: "node",
    logLevel: "error",
  });
  for (const name of names) Object.assign(parts, await import(pathToFileURL(join(folder, `${name}.mjs`)).href));
});
after(() => rmSync(folder, { recursive: true }));

const row = (more) => ({ status: 200, method: "GET", target: "/fares", answered_by: "file", site: "ferry", ...more });

test("words of the filter", () => {
  for (const [words, one, passes] of [
    ["404", { status: 404 }, true],
    ["404", { status: 200 }, false],
    ["404", { target: "/errors/404" }, true],
    ["4xx", { status: 421 }, true],
    ["4xx", { status: 500 }, false],
    ["post", { method: "POST" }, true],
    ["post", { target: "/posts" }, false],
    ["site:fer", {}, true],
    ["site:office", {}, false],
    ["FARES", {}, true],
    ["fares post", {}, false],
    ["-fares", {}, false],
    ["-4xx fares", {}, true],
    ["perl", { answered_by: "perl /tides.pl" }, true],
  ])
    assert.equal(parts.parseFilter(words)(row(one)), passes, `${words} ${JSON.stringify(one)}`);
  assert.equal(parts.parseFilter("  "), null);
});

test("values as people read them", () => {
  for (const [told, wanted] of [
    [parts.size(0), "0 B"],
    [parts.size(1023), "1023 B"],
    [parts.size(1536), "1.5 KiB"],
    [parts.size(300 * 1024 * 1024), "300.0 MiB"],
    [parts.duration(0.824), "0.8 ms"],
    [parts.duration(41.26), "41.3 ms"],
    [parts.duration(128.4), "128 ms"],
    [parts.duration(1204), "1204 ms"],
    [parts.duration(12500), "12.5 s"],
    [parts.span(59), "59 s"],
    [parts.span(7800), "2 h 10 min"],
    [parts.span(3 * 86400), "3 days"],
    [parts.shellWord("index.php"), "index.php"],
    [parts.shellWord("user_ini.cache_ttl='-1'"), "\"user_ini.cache_ttl='-1'\""],
    [parts.tone(204), "good"],
    [parts.tone(0), "wrong"],
    [parts.tone(304), "dimmed"],
    [parts.shortened("/home/tern/pages/cgi-bin/tides.pl", 20).length, 20],
  ])
    assert.equal(told, wanted);
});

test("bytes as people read them", () => {
  const bytes = new TextEncoder().encode("GET /\r\n\u0001");
  assert.equal(parts.asSent(bytes), "GET /⏎\n\ufffd");
  assert.match(parts.hexDump(bytes), /^00000000 {2}47 45 54 20 2f 0d 0a 01 +GET \/\.\.\.$/);
  assert.match(parts.hexDump(new Uint8Array(5000), 16), /and 4984 bytes more$/);
  assert.equal(parts.readable('{"a":[1]}', "application/json"), '{\n  "a": [\n    1\n  ]\n}');
  assert.equal(parts.readable("{fog", "application/json"), "{fog");
  assert.deepEqual(parts.fromBase64(parts.toBase64("Möwe")), new TextEncoder().encode("Möwe"));
});

test("another port in the settings, and nowhere else", () => {
  const text =
    'addresses = ["localhost:8080", 18080]\n# 8080\n[site.x]\naddresses = [\n  8080,\n]\ndocument-root = "8080"\n';
  const wanted = text.replace("localhost:8080", "localhost:8082").replace("  8080", "  8082");
  assert.equal(parts.withOtherPort(text, 8080, 8082), wanted);
  assert.equal(parts.takenPort({ code: "port-taken", sentence: "Port 8080 is taken by php." }), 8080);
  assert.equal(parts.takenPort({ code: "other", sentence: "Port 8080 is taken." }), 0);
});
