// The built console in a real browser against a real server.
import assert from "node:assert/strict";
import { renameSync, writeFileSync } from "node:fs";
import net from "node:net";
import { after, before, test } from "node:test";
import { axeFindings, eventually, goTo, launch, open, request, serve } from "./support.mjs";

let browser;
before(async () => {
  browser = await launch();
});
after(() => browser.close());

const python = "#!/usr/bin/env python3\n";
const ferry = {
  "pages/index.html": "<!doctype html><title>Gull Sound</title><p>Ferries</p>",
  "pages/fares.json": '{"adult": 12}',
  "pages/cgi-bin/tides": `${python}print("Content-Type: text/plain\\n")\nprint("high water 06:12")\n`,
  "pages/cgi-bin/broken": `${python}print("Content-Type: text/plain\\n")\nprint(tide)\n`,
};
const oneSite = '[site.ferry]\ndocument-root = "pages"\nhosts = ["ferry.localhost", "localhost"]\n';

async function withServer(settings, files, use) {
  const server = await serve(settings, files);
  try {
    await use(server);
  } finally {
    await server.stop();
  }
}

const views = {
  sites: "#/sites",
  exchanges: "#/exchanges",
  exchange: "#/exchanges/2",
  request: "#/exchanges/2?part=request",
  run: "#/exchanges/2?part=run",
  way: "#/exchanges/3?part=trail",
  compare: "#/exchanges/2?part=compare&with=1",
  rehearse: "#/rehearse/ferry?in=/cgi-bin&path=/cgi-bin/broken",
  explain: "#/explain?what=http://localhost/none",
  settings: "#/settings",
  languages: "#/languages/Python",
  log: "#/log",
};

test("on every view, in light and in dark, axe finds nothing and nothing fails", async () => {
  await withServer(oneSite, ferry, async (server) => {
    await server.get("/");
    await server.get("/cgi-bin/tides");
    await server.get("/none");
    for (const colorScheme of ["light", "dark"]) {
      const page = await open(browser, server.url, { colorScheme, reducedMotion: "reduce" });
      for (const [name, hash] of Object.entries(views)) {
        await goTo(page, hash);
        await page.waitForTimeout(name === "rehearse" || name === "languages" ? 1500 : 500);
        assert.deepEqual(await axeFindings(page), [], `${name}, ${colorScheme}`);
      }
      assert.deepEqual(page.faults, []);
      await page.context().close();
    }
  });
});

test("a beginner adds a site, opens it, breaks its script, sees the line, and mends it", async () => {
  await withServer("", ferry, async (server) => {
    const page = await open(browser, server.url);
    await page.getByText("There is no site yet.").waitFor();
    await page.getByLabel("Folder").fill(`${server.folder}/pages`);
    await page.getByLabel("Name").fill("ferry");
    await page.getByText(`http://ferry.localhost:${server.port}/`).waitFor();
    await page.getByRole("button", { name: "Add it" }).click();
    await page.getByRole("heading", { name: "ferry" }).waitFor();
    assert.equal((await server.get("/")).status, 200);

    const script = "pages/cgi-bin/tides";
    await goTo(page, "#/exchanges");
    await server.get("/cgi-bin/tides");
    await page.getByRole("option", { name: /200.*\/cgi-bin\/tides/ }).click();
    await page.getByRole("tab", { name: "As text" }).waitFor();
    server.write(script, `${python}print("Content-Type: text/plain\\n")\nprint(high_water)\n`, 0o755);
    await server.get("/cgi-bin/tides");
    await page.getByRole("option", { name: /500.*\/cgi-bin\/tides/ }).click();
    await page.locator(".detail").getByText("failed at line 3").first().waitFor();

    await goTo(page, "#/rehearse/ferry?in=/cgi-bin&path=/cgi-bin/tides");
    await page.locator(".output").getByText("failed at line 3").first().waitFor();
    await page.locator(".code").first().locator(".cm-lintRange-error").waitFor();
    server.write(script, `${python}print("Content-Type: text/plain\\n")\nprint("high water 07:01")\n`, 0o755);
    // It runs again by itself.
    await page.locator(".output").getByText("high water 07:01").waitFor();
    await page.locator(".output .status").getByText("200").waitFor();
    assert.deepEqual(page.faults, []);
    await page.context().close();
  });
});

test("a rehearsal is given a form, two of them are compared, and many show their spread", async () => {
  const files = {
    ...ferry,
    "pages/cgi-bin/echo": "#!/bin/sh\nprintf 'Content-Type: text/plain\\n\\n'; cat; date +%N\n",
  };
  await withServer(oneSite, files, async (server) => {
    const page = await open(browser, server.url);
    await goTo(page, "#/rehearse/ferry?in=/cgi-bin&path=/cgi-bin/echo");
    await page.locator(".output .status").getByText("200").waitFor();
    await page.getByText("Fields and body").click();
    await page.getByLabel("Name 1").fill("port");
    await page.getByLabel("Value 1").fill("Morrow Bay");
    await page.getByLabel("Value 1").blur();
    await page.getByRole("button", { name: "Run", exact: true }).click();
    await page.locator(".output").getByText("port=Morrow+Bay").waitFor();
    await page.getByLabel("The one run").selectOption("1");
    await page.locator(".beside").getByText("port=Morrow+Bay").waitFor();
    await page.getByRole("button", { name: "Measure" }).click();
    await page.getByText("10 runs:").waitFor();
    await page.locator(".spread canvas").waitFor();
    assert.deepEqual(page.faults, []);
    await page.context().close();
  });
});

test("the way back leads from one exchange to the list, and forward again", async () => {
  await withServer(oneSite, ferry, async (server) => {
    await server.get("/");
    await server.get("/none");
    const page = await open(browser, server.url);
    await goTo(page, "#/exchanges");
    await page.getByRole("option", { name: /none/ }).click();
    await page.getByRole("option", { name: /200/ }).click();
    await page.getByRole("heading", { name: "GET /", exact: true }).waitFor();
    await page.goBack();
    await page.getByRole("heading", { name: "GET /", exact: true }).waitFor({ state: "detached" });
    await page.getByRole("option", { name: /none/ }).waitFor();
    await page.goForward();
    await page.getByRole("heading", { name: "GET /", exact: true }).waitFor();
    await page.context().close();
  });
});

test("a port that is taken is told with its holder, and another is taken at a click", async () => {
  await withServer(oneSite, ferry, async (server) => {
    const holder = net.createServer().listen(0, "localhost");
    await new Promise((resolve) => holder.once("listening", resolve));
    const taken = holder.address().port;
    const page = await open(browser, server.url);
    await page.getByText("● Answering").waitFor();
    server.write(
      "uporter.toml",
      server.fill(`console = "localhost:CONSOLE"\naddresses = [PORT, ${taken}]\n${oneSite}`),
    );
    await page.getByText(`Port ${taken} is taken by`).first().waitFor();
    await page.getByRole("button", { name: "Take the next free port" }).click();
    await eventually(async () => {
      const status = await server.console("/v1/status", { headers: { Authorization: `Bearer ${server.key}` } });
      const ports = JSON.parse(status.text).addresses.map((one) => one.port);
      return ports.length === 2 && !ports.includes(taken) && ports.every((port) => port !== taken);
    });
    holder.close();
    await page.context().close();
  });
});

test("settings are checked while one types, applied in words, and never overwrite another program's", async () => {
  await withServer(oneSite, ferry, async (server) => {
    const page = await open(browser, server.url);
    await goTo(page, "#/settings");
    const editor = page.getByRole("textbox", { name: "Settings" });
    await editor.click();
    await page.keyboard.press("Control+End");
    await page.keyboard.type("listing = 7");
    await page.getByText("It cannot be applied yet").waitFor();
    assert.ok(await page.getByRole("button", { name: "Apply" }).isDisabled());
    for (let i = 0; i < 1; ++i) await page.keyboard.press("Backspace");
    await page.keyboard.type("false");
    await page.getByText("Of site ferry this changes: whether folders are listed.").waitFor();
    await page.getByRole("button", { name: "Apply" }).click();
    await page.getByText("Applied.").waitFor();

    await page.keyboard.press("Control+End");
    await editor.click();
    await page.keyboard.press("Control+End");
    await page.keyboard.type("\ntime-limits = false");
    const other = server.fill(`console = "localhost:CONSOLE"\naddresses = [PORT]\n# by hand\n${oneSite}`);
    writeFileSync(`${server.file}.new`, other);
    renameSync(`${server.file}.new`, server.file);
    await page.getByText("The file was saved by another program meanwhile.").first().waitFor();
    await page.getByRole("button", { name: "Take what is on disk" }).click();
    await page.getByText("# by hand").waitFor();
    await page.context().close();
  });
});

test("nothing that is recorded, and no name, runs or loads anything", async () => {
  const bad = "globalThis.parent.ran = 1; globalThis.ran = 1";
  const hostile = `<script>${bad}</script><img src=x onerror="${bad}"><svg onload="${bad}"></svg>
    <link rel="stylesheet" href="/v1/status"><iframe src="javascript:${bad}"></iframe>
    <img src="/probe.png"><a href="javascript:${bad}">x</a><style>p { color: rgb(1, 2, 3) }</style><p>Quay</p>
    <meta http-equiv="refresh" content="0; url=/elsewhere"><form action="/sent"><button>Send</button></form>`;
  const name = `"><img src=x onerror='${bad.replaceAll("'", "")}'>.html`;
  const files = { ...ferry, "pages/bad.html": hostile };
  files[`pages/${name.replaceAll("/", "")}`] = "x";
  files["pages/cgi-bin/fields"] =
    `#!/bin/sh\nprintf 'Content-Type: text/html\\nX-Bad: <img src=x onerror="${bad}">\\n\\n'\necho '${hostile.replaceAll("'", "")}'\n`;
  await withServer(oneSite, files, async (server) => {
    await server.get("/bad.html");
    await server.get(`/%22%3E%3Cimg%20src=x%20onerror=%27x%27%3E`, { "X-Bad": "<script>parent.ran = 1</script>" });
    await server.get("/cgi-bin/fields");
    const page = await open(browser, server.url);
    const asked = [];
    page.on("response", (one) => asked.push(one.url()));
    for (const hash of ["#/exchanges/1", "#/exchanges/2", "#/exchanges/2?part=request", "#/exchanges/3", "#/log"]) {
      await goTo(page, hash);
      await page.waitForTimeout(600);
    }
    await goTo(page, "#/exchanges/1");
    const inside = page.frameLocator("iframe.preview").locator("p");
    await inside.waitFor();
    // How it looks is kept.
    assert.equal(await inside.evaluate((element) => getComputedStyle(element).color), "rgb(1, 2, 3)");
    await goTo(page, "#/rehearse/ferry");
    await page.getByText("onerror").first().waitFor();
    await goTo(page, "#/rehearse/ferry?in=/cgi-bin&path=/cgi-bin/fields");
    await page.locator("iframe.preview").waitFor();
    await page.waitForTimeout(500);
    assert.equal(await page.evaluate(() => globalThis.ran), undefined);
    const foreign = asked.filter((url) => !/\/(v1\/|[\w-]+\.(js|css|svg)$|$)/.test(new URL(url).pathname));
    assert.deepEqual(foreign, []);
    assert.deepEqual(
      asked.filter((url) => url.includes("probe.png") || url.includes("elsewhere")),
      [],
    );
    await page.context().close();
  });
});

test("without the right key, name and origin nothing is given but the page's own files", async () => {
  await withServer(oneSite, ferry, async (server) => {
    const right = { Authorization: `Bearer ${server.key}` };
    const port = server.consolePort;
    const rows = [
      ["/v1/status", right, 200],
      ["/v1/status", {}, 401],
      ["/v1/status", { Authorization: "Bearer 00" }, 401],
      ["/v1/status", { Authorization: `Bearer ${"0".repeat(64)}` }, 401],
      ["/v1/console/key", {}, 401],
      ["/v1/events", {}, 401],
      ["/v1/status", { ...right, Host: "ferry.localhost" }, 421],
      ["/v1/status", { ...right, Host: `rebound.test:${port}` }, 421],
      ["/", { Host: `rebound.test:${port}` }, 421],
      ["/v1/status", { ...right, Host: `127.0.0.1:${port}` }, 200],
      ["/v1/status", { ...right, Origin: "http://rebound.test" }, 403],
      ["/v1/status", { ...right, Origin: `http://localhost:${server.port}` }, 403],
      ["/v1/status", { ...right, Origin: "null" }, 403],
      ["/v1/status", { ...right, Origin: `http://localhost:${port}` }, 200],
      ["/", {}, 200],
      ["/none", {}, 404],
      ["/../uporter.toml", {}, 404],
    ];
    for (const [path, headers, status] of rows) {
      const reply = await request({ port, path, headers });
      assert.equal(reply.status, status, `${path} ${JSON.stringify(headers)}`);
      assert.equal(reply.fields["x-content-type-options"], "nosniff");
      assert.ok(reply.fields["content-security-policy"].includes("default-src 'none'"));
      assert.equal(reply.fields["access-control-allow-origin"], undefined);
      if (status === 401) assert.ok(!reply.text.includes(server.folder));
    }
    const page = await open(browser, `http://localhost:${port}/#key=${"0".repeat(64)}`);
    await page.getByRole("heading", { name: "The key is missing" }).waitFor();
    assert.deepEqual(await axeFindings(page), []);
    await page.goto(server.url);
    await page.reload();
    await page.getByText("● Answering").waitFor();
    assert.ok(!page.url().includes("key="));
    assert.equal((await page.context().cookies()).length, 0);
    await page.context().close();
  });
});

test("it pauses and resumes, and comes back by itself after a restart with another key", async () => {
  await withServer(oneSite, ferry, async (server) => {
    const page = await open(browser, server.url);
    await page.getByRole("button", { name: "Pause answering" }).click();
    await page.getByText("Paused.").waitFor();
    await assert.rejects(server.get("/"));
    await page.getByRole("button", { name: "Resume answering" }).click();
    await page.getByText("● Answering").waitFor();
    assert.equal((await server.get("/")).status, 200);

    await page.getByRole("button", { name: "Restart" }).click();
    await page.getByRole("button", { name: "Restart it" }).click();
    await eventually(async () => {
      const key = await page.evaluate(() => localStorage.getItem("porter-key"));
      return key !== server.key;
    });
    await page.getByText("● Answering").waitFor();
    assert.equal((await server.get("/")).status, 200);
    await goTo(page, "#/exchanges");
    await page.getByRole("option", { name: /200/ }).waitFor();
    const old = await server.console("/v1/status", { headers: { Authorization: `Bearer ${server.key}` } });
    assert.equal(old.status, 401);
    await page.context().close();
  });
});

test("the keyboard does all of a list: choose, open, close, filter", async () => {
  await withServer(oneSite, ferry, async (server) => {
    for (const path of ["/", "/none", "/fares.json"]) await server.get(path);
    const page = await open(browser, server.url);
    await page.getByText("● Answering").waitFor();
    await page.keyboard.press("2");
    // The rows come one after the other, the newest on top.
    for (const name of [/GET \/ /, /none/, /fares/]) await page.getByRole("option", { name }).waitFor();
    await page.keyboard.press("j");
    await page.getByRole("heading", { name: "/fares.json" }).waitFor();
    await page.keyboard.press("j");
    await page.getByRole("heading", { name: "/none" }).waitFor();
    await page.keyboard.press("Escape");
    await page.getByRole("heading", { name: "/none" }).waitFor({ state: "detached" });
    await page.keyboard.press("/");
    await page.keyboard.type("4xx");
    await page.getByRole("option", { name: /fares/ }).waitFor({ state: "detached" });
    assert.ok(page.url().includes("f=4xx"));
    await page.reload();
    await page.getByRole("option", { name: /none/ }).waitFor();
    assert.equal(await page.getByRole("option").count(), 1);
    await page.keyboard.press("?");
    await page.getByRole("dialog", { name: "Keys" }).waitFor();
    await page.context().close();
  });
});

/** Types a filter where the focus is. From each key to the picture that follows it, in milliseconds. */
async function typingTimes(page) {
  await page.evaluate(() => {
    globalThis.times = [];
    addEventListener(
      "keydown",
      () => {
        const begun = performance.now();
        requestAnimationFrame(() => setTimeout(() => globalThis.times.push(performance.now() - begun)));
      },
      true,
    );
  });
  for (const key of "fares get 200 json") {
    await page.keyboard.press(key === " " ? "Space" : key);
    await page.waitForTimeout(120);
  }
  return page.evaluate(() => globalThis.times);
}

function median(times) {
  assert.ok(times.length >= 15);
  return [...times].sort((a, b) => a - b)[times.length >> 1];
}

test("with ten thousand exchanges, and two hundred new ones a second, typing is answered at once", async (t) => {
  await withServer(oneSite, ferry, async (server) => {
    const send = (count) =>
      new Promise((resolve, reject) => {
        const socket = net.connect(server.port, "127.0.0.1");
        let seen = 0;
        socket.on("data", (data) => {
          seen += String(data).split("HTTP/1.1 200").length - 1;
          if (seen >= count) {
            socket.destroy();
            resolve();
          }
        });
        socket.on("error", reject);
        socket.write(`GET /fares.json HTTP/1.1\r\nHost: localhost\r\n\r\n`.repeat(count));
      });
    for (let i = 0; i < 100; ++i) await send(100);
    const page = await open(browser, server.url);
    await goTo(page, "#/exchanges");
    await page.getByText("10,000").waitFor();
    assert.ok((await page.getByRole("option").count()) < 100);
    let isSending = true;
    const sending = (async () => {
      while (isSending) {
        await send(20);
        await new Promise((resolve) => setTimeout(resolve, 100));
      }
    })();
    const blank = await page.context().newPage();
    await blank.setContent("<input autofocus>");
    const least = median(await typingTimes(blank));
    await page.bringToFront();
    await page.getByRole("searchbox", { name: "Filter" }).focus();
    const times = await typingTimes(page);
    isSending = false;
    await sending;
    t.diagnostic(`typing: ${median(times).toFixed(1)} ms in the middle; in an empty page ${least.toFixed(1)} ms`);
    // What a busy machine adds, it adds to an empty page too.
    assert.ok(median(times) < 100 + 10 * least, `${times}`);
    await page.context().close();
  });
});

test("the first view stands quickly, and is small", async (t) => {
  await withServer(oneSite, ferry, async (server) => {
    const page = await open(browser, server.url);
    await page.getByRole("heading", { name: "ferry" }).waitFor();
    const facts = await page.evaluate(() => {
      const all = performance.getEntriesByType("resource");
      const own = all.filter((one) => /\.(js|css|svg)$/.test(one.name));
      const paint = performance.getEntriesByName("first-contentful-paint")[0];
      return { bytes: own.reduce((sum, one) => sum + one.encodedBodySize, 0), paint: paint?.startTime ?? 0 };
    });
    t.diagnostic(`first view: ${facts.bytes} bytes, painted after ${facts.paint.toFixed(0)} ms`);
    assert.ok(facts.bytes > 0 && facts.bytes < 200 * 1024);
    await page.context().close();
  });
});
