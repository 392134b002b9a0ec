// A real server with a home of its own, and a browser, for the tests.
import { spawn } from "node:child_process";
import { chmodSync, mkdirSync, mkdtempSync, rmSync, writeFileSync } from "node:fs";
import http from "node:http";
import net from "node:net";
import { tmpdir } from "node:os";
import { dirname, join } from "node:path";
import { fileURLToPath } from "node:url";
import axe from "axe-core";
import { chromium } from "playwright-core";

const here = dirname(fileURLToPath(import.meta.url));
const built = process.env.PORTER_BUILT ?? join(here, "..", "..", "build", "bin");

export async function freePort() {
  const probe = net.createServer().listen(0, "127.0.0.1");
  await new Promise((resolve) => probe.once("listening", resolve));
  const { port } = probe.address();
  await new Promise((resolve) => probe.close(resolve));
  return port;
}

/** A server that goes by `settings`, in which PORT and CONSOLE stand for free ports, with `files` beside them. */
export async function serve(settings, files = {}) {
  const folder = mkdtempSync(join(tmpdir(), "porter-console-"));
  const [port, consolePort] = [await freePort(), await freePort()];
  const write = (name, text, mode) => {
    const path = join(folder, name);
    mkdirSync(dirname(path), { recursive: true });
    writeFileSync(path, text);
    if (mode) chmodSync(path, mode);
    return path;
  };
  const fill = (text) => text.replaceAll("PORT", port).replaceAll("CONSOLE", consolePort);
  for (const [name, text] of Object.entries(files)) write(name, text, name.includes("cgi-bin/") ? 0o755 : undefined);
  const file = write("uporter.toml", fill(`console = "localhost:CONSOLE"\naddresses = [PORT]\n${settings}`));
  const environment = { ...process.env, HOME: folder, XDG_STATE_HOME: join(folder, "state"), XDG_RUNTIME_DIR: "" };
  const program = spawn(join(built, "uporter"), ["serve", "--settings", file], { env: environment });
  let said = "";
  program.stdout.on("data", (data) => {
    said += data;
  });
  program.stderr.on("data", (data) => {
    said += data;
  });
  const ended = new Promise((resolve) => program.once("exit", resolve));
  await eventually(
    () => said.includes("Ctrl+C") || program.exitCode !== null,
    () => `the server did not start: ${said}`,
  );
  const url = /http:\/\/localhost:\d+\/#key=[0-9a-f]+/.exec(said)?.[0] ?? "";
  return {
    folder,
    port,
    consolePort,
    file,
    url,
    key: url.slice(-64),
    write,
    fill,
    said: () => said,
    get: (path, fields = {}) => request({ port, path, headers: fields }),
    console: (path, options = {}) => request({ port: consolePort, path, ...options }),
    async stop() {
      program.kill("SIGTERM");
      await ended;
      rmSync(folder, { recursive: true, force: true });
    },
  };
}

/** One request, whatever its fields; a name of this computer unless they say otherwise. */
export function request({ port, path, method = "GET", headers = {}, body }) {
  return new Promise((resolve, reject) => {
    const all = { Host: `localhost:${port}`, ...headers };
    const asking = http.request({ host: "127.0.0.1", port, path, method, headers: all }, (reply) => {
      let text = "";
      reply.on("data", (data) => {
        text += data;
      });
      reply.on("end", () => resolve({ status: reply.statusCode, fields: reply.headers, text }));
    });
    asking.on("error", reject);
    asking.end(body);
  });
}

export async function eventually(condition, why = () => "it did not come about", time = 20_000) {
  const end = Date.now() + time;
  for (;;) {
    const value = await condition();
    if (value) return value;
    if (Date.now() > end) throw new Error(why());
    await new Promise((resolve) => setTimeout(resolve, 20));
  }
}

export const launch = () =>
  chromium.launch({
    executablePath: process.env.PORTER_CHROMIUM ?? "/usr/bin/chromium",
    args: ["--no-sandbox", "--disable-gpu", "--disable-quic", "--disable-background-networking", "--disable-sync"],
  });

/** A page of the console, whose faults are gathered in `faults`. */
export async function open(browser, url, options = {}) {
  const context = await browser.newContext({ viewport: { width: 1280, height: 800 }, ...options });
  const page = await context.newPage();
  page.setDefaultTimeout(15_000);
  const faults = [];
  page.on("pageerror", (fault) => faults.push(String(fault)));
  await page.goto(url);
  return Object.assign(page, { faults });
}

export async function goTo(page, hash) {
  await page.evaluate((to) => {
    location.hash = to;
  }, hash);
}

/** What axe-core finds wrong with the page, a line each. */
export async function axeFindings(page) {
  await page.evaluate(axe.source);
  const found = await page.evaluate(() => globalThis.axe.run(document));
  return found.violations.flatMap((one) => one.nodes.map((node) => `${one.id}: ${node.html.slice(0, 160)}`));
}
