// A script and its output side by side; it runs again whenever the file is saved.
import { useSignal } from "@preact/signals";
import { useEffect, useRef } from "preact/hooks";
import { call, events, post, query, type Rehearsed, type Source, type Tree } from "../api";
import { fromBase64 } from "../bytes";
import { size } from "../format";
import { bind } from "../keys";
import { Action, Copy, Empty, Findings, Problem, Scrolled, StatusMark, useCall } from "../parts/basics";
import { BodyView } from "../parts/body";
import { Beside, Code, type Mark } from "../parts/code";
import { go, place, to, withOptions } from "../router";
import { settingsApplied, sites, starts } from "../store";

interface Kept {
  number: number;
  time: number;
  asked: string;
  result: Rehearsed;
}
const mostKept = 20;
const kept = new Map<string, Kept[]>();

const what = (entry: Tree["entries"][number]): string => {
  if (entry.what === "folder") return entry.as ?? "";
  if (entry.what === "run") return `run by ${entry.as}`;
  if (entry.what === "refused") return `refused: ${entry.as}`;
  return entry.what === "sent" ? "sent as it is" : "redirected";
};

function TreeView({ site, path, chosen }: { site: string; path: string; chosen: string }) {
  const { value, problem } = useCall<Tree>(
    (signal) => call(`/v1/tree${query({ site, path })}`, { signal }),
    [site, path, settingsApplied.value],
  );
  const tree = value.value;
  const above = path === "/" ? "" : path.slice(0, path.replace(/\/$/, "").lastIndexOf("/") + 1) || "/";
  return (
    <nav class="tree" aria-label={`Files of ${site}`}>
      <p class="tools">
        <label>
          Site{" "}
          <select value={site} onChange={(event) => go(to("rehearse", event.currentTarget.value))}>
            {sites.value.map((one) => (
              <option key={one.name}>{one.name}</option>
            ))}
          </select>
        </label>
        <code>{path}</code>
      </p>
      <Problem of={problem.value} />
      <ul class="plain">
        {above && (
          <li>
            <a href={to("rehearse", site, { in: above })}>↑ above</a>
          </li>
        )}
        {tree?.entries.map((entry) => (
          <li key={entry.path} class={entry.what} title={entry.why ?? ""}>
            {entry.what === "folder" ? (
              <a href={to("rehearse", site, { in: entry.path })}>{entry.name}/</a>
            ) : (
              <a
                href={to("rehearse", site, { in: path, path: entry.path })}
                aria-current={entry.path === chosen ? "true" : undefined}
              >
                {entry.name}
              </a>
            )}{" "}
            <span class={entry.what === "refused" ? "notice" : "dimmed"}>{what(entry)}</span>
          </li>
        ))}
      </ul>
      {tree?.entries.length === 0 && <p class="dimmed">This folder is empty.</p>}
    </nav>
  );
}

function Spread({ times, memory }: { times: number[]; memory: number[] }) {
  const host = useRef<HTMLDivElement>(null);
  useEffect(() => {
    let end: (() => void) | null = null;
    let isGone = false;
    void import("../editor/plot").then(({ drawRuns }) => {
      if (!isGone && host.current) end = drawRuns(host.current, times, memory);
    });
    return () => {
      isGone = true;
      end?.();
    };
  }, [times, memory]);
  const sorted = [...times].sort((a, b) => a - b);
  const at = (share: number) => sorted[Math.min(sorted.length - 1, Math.floor(sorted.length * share))] ?? 0;
  return (
    <figure class="spread">
      <div ref={host} aria-hidden="true" />
      <figcaption>
        {times.length} runs: min {at(0)} ms, median {at(0.5)} ms, max {at(1)} ms; memory{" "}
        {Math.max(...memory).toFixed(1)} MiB at most.
      </figcaption>
    </figure>
  );
}

function Workshop({ site, path }: { site: string; path: string }) {
  const options = place.value.options;
  const asked = {
    query: options.get("query") ?? "",
    method: options.get("method") ?? "",
    fields: options.get("fields") ?? "",
    body: options.get("body") ?? "",
    type: options.get("type") ?? "",
  };
  const source = useSignal<Source | null>(null);
  const problem = useSignal<unknown>(null);
  const result = useSignal<Rehearsed | null>(null);
  const isRunning = useSignal(false);
  const runsItself = useSignal(true);
  const compared = useSignal<[number, number] | null>(null);
  const spread = useSignal<{ times: number[]; memory: number[] } | null>(null);
  const count = useSignal(10);
  const abort = useRef<AbortController | null>(null);
  const name = `${site} ${path}`;
  const runs = useSignal<Kept[]>(kept.get(name) ?? []);

  const order = () => ({
    site,
    path,
    query: asked.query,
    ...(asked.method ? { method: asked.method } : {}),
    ...(asked.body ? { body: asked.body } : {}),
    ...(asked.type ? { type: asked.type } : {}),
    fields: asked.fields
      .split("\n")
      .filter((line) => line.includes(":"))
      .map((line) => ({
        name: line.slice(0, line.indexOf(":")).trim(),
        value: line.slice(line.indexOf(":") + 1).trim(),
      })),
  });
  const readSource = async (signal?: AbortSignal) => {
    source.value = await call<Source>(`/v1/source${query({ site, path })}`, signal ? { signal } : {});
  };
  const run = async () => {
    abort.current?.abort();
    const mine = new AbortController();
    abort.current = mine;
    isRunning.value = true;
    problem.value = null;
    try {
      const done = await post<Rehearsed>("/v1/rehearsals", order(), mine.signal);
      result.value = done;
      const before = kept.get(name) ?? [];
      const now = [
        ...before,
        {
          number: (before.at(-1)?.number ?? 0) + 1,
          time: Date.now(),
          asked: `${asked.method || (asked.body ? "POST" : "GET")} ${path}${asked.query ? `?${asked.query}` : ""}`,
          result: done,
        },
      ].slice(-mostKept);
      kept.set(name, now);
      runs.value = now;
    } catch (what) {
      if (!mine.signal.aborted) problem.value = what;
    }
    if (abort.current === mine) isRunning.value = false;
  };
  const latest = useRef(run);
  latest.current = run;
  const isScript = source.value?.what === "run";

  useEffect(() => {
    const reading = new AbortController();
    result.value = null;
    readSource(reading.signal)
      .then(() => {
        if (source.value?.what === "run") void latest.current();
      })
      .catch((what) => {
        if (!reading.signal.aborted) problem.value = what;
      });
    const watch = async () => {
      for await (const event of events(`/v1/watch${query({ site, path })}`, reading.signal)) {
        if (event.type !== "saved") continue;
        await readSource(reading.signal);
        if (runsItself.value && source.value?.what === "run") void latest.current();
      }
    };
    watch().catch(() => {
      // The source is read again when the script is chosen again.
    });
    return () => {
      reading.abort();
      abort.current?.abort();
    };
  }, [site, path, starts.value]);
  useEffect(() => bind(["r"], "Run it", () => void latest.current()), []);

  const often = async () => {
    const times: number[] = [];
    const memory: number[] = [];
    for (let i = 0; i < count.value; ++i) {
      const done = await post<Rehearsed>("/v1/rehearsals", order());
      times.push(done.run?.milliseconds ?? 0);
      memory.push((done.run?.peak_memory_kib ?? 0) / 1024);
      result.value = done;
    }
    spread.value = { times, memory };
  };

  const now = result.value;
  const marks: Mark[] = (now?.findings ?? [])
    .filter((finding) => finding.line !== undefined && (!finding.file || finding.file === source.value?.file))
    .map((finding) => ({ line: finding.line as number, text: finding.sentence }));
  const field = (key: string) => ({
    value: asked[key as keyof typeof asked],
    onChange: (event: { currentTarget: { value: string } }) => withOptions({ [key]: event.currentTarget.value }),
  });
  const type = now?.fields?.find((one) => one.name.toLowerCase() === "content-type")?.value ?? "";
  const pair = compared.value;
  const textOf = (number: number) => {
    const found = runs.value.find((one) => one.number === number);
    return found ? found.result.body || found.result.printed || "" : "";
  };
  return (
    <div class="workshop">
      <div class="tools">
        <b>
          <code>{path}</code>
        </b>
        {source.value && <Copy text={source.value.file}>Copy its path</Copy>}
        <label>
          Query <input type="text" spellcheck={false} placeholder="port=TAN" {...field("query")} />
        </label>
        <label>
          Method{" "}
          <select {...field("method")}>
            <option value="">GET, or POST with a body</option>
            {["GET", "HEAD", "POST", "PUT", "PATCH", "DELETE"].map((method) => (
              <option key={method}>{method}</option>
            ))}
          </select>
        </label>
        {isRunning.value ? (
          <button
            type="button"
            onClick={() => {
              abort.current?.abort();
              isRunning.value = false;
            }}
          >
            Running… stop it
          </button>
        ) : (
          <button type="button" class="strong" onClick={() => void run()} disabled={!isScript}>
            Run
          </button>
        )}
        <label>
          <input
            type="checkbox"
            checked={runsItself.value}
            onChange={(event) => {
              runsItself.value = event.currentTarget.checked;
            }}
          />{" "}
          whenever it is saved
        </label>
      </div>
      <details class="more">
        <summary>Fields and body</summary>
        <p class="tools">
          <label class="grow">
            Fields, one on each line
            <textarea rows={3} spellcheck={false} placeholder="Cookie: port=TAN" {...field("fields")} />
          </label>
          <label class="grow">
            Body
            <textarea rows={3} spellcheck={false} placeholder="name=value&amp;other=value" {...field("body")} />
          </label>
          <label>
            Type of the body <input type="text" placeholder="application/x-www-form-urlencoded" {...field("type")} />
          </label>
        </p>
        {(asked.type === "" || asked.type.startsWith("application/x-www-form-urlencoded")) && (
          <FormEditor body={asked.body} change={(body) => withOptions({ body })} />
        )}
      </details>
      <Problem of={problem.value} />
      {source.value && !isScript && (
        <p class="notice">
          ▲ It is {what({ ...source.value, name: "", what: source.value.what })}. {source.value.why}{" "}
          {source.value.remedy}
        </p>
      )}
      <div class="two">
        {source.value?.is_text === false ? (
          <p class="dimmed">Binary file: {size(source.value.bytes)}, a compiled program or the like.</p>
        ) : (
          <Code
            label={`Source of ${path}`}
            kind={kindOf(path, source.value)}
            text={source.value?.text ?? ""}
            marks={marks}
          />
        )}
        <section class="output" aria-label="Output" aria-live="polite">
          {now ? (
            <>
              <p class="summary">
                <StatusMark status={now.status} />
                {now.run && (
                  <span>
                    {now.run.milliseconds} ms, {size(now.run.peak_memory_kib * 1024)},{" "}
                    {now.run.signal !== undefined
                      ? `signal ${now.run.signal}`
                      : `exit status ${now.run.exit_status ?? "–"}`}
                  </span>
                )}
              </p>
              <Findings all={now.findings} />
              {now.printed && <p class="dimmed">What it printed before it failed:</p>}
              <BodyView bytes={fromBase64(now.body_base64)} type={type} label="Output" />
              {now.error_stream && (
                <>
                  <h2>Error stream</h2>
                  <Scrolled kind="error-stream">{now.error_stream}</Scrolled>
                </>
              )}
              <details>
                <summary>Head, command and environment</summary>
                <pre class="bytes">
                  {(now.fields ?? []).map((one) => `${one.name}: ${one.value}\n`).join("")}
                  {`\n${now.command}\n\n${(now.environment ?? []).join("\n")}`}
                </pre>
              </details>
            </>
          ) : (
            !problem.value && (
              <p class="dimmed">{isRunning.value ? "Running…" : "Run it, and its output stands here."}</p>
            )
          )}
        </section>
      </div>
      {isScript && (
        <div class="tools runs">
          <label>
            Run it{" "}
            <input
              type="number"
              min={2}
              max={200}
              value={count.value}
              onChange={(event) => {
                count.value = Math.max(2, Math.min(200, Number(event.currentTarget.value) || 10));
              }}
            />{" "}
            times
          </label>
          <Action run={often} working="Running…">
            Measure
          </Action>
          {runs.value.length > 1 && (
            <>
              <span>
                Compare run{" "}
                <RunChoice
                  label="The one run"
                  runs={runs.value}
                  chosen={pair?.[0] ?? 0}
                  choose={(number) => {
                    compared.value = [number, pair?.[1] ?? runs.value.at(-1)?.number ?? 0];
                  }}
                />
              </span>
              <span>
                with{" "}
                <RunChoice
                  label="The other run"
                  runs={runs.value}
                  chosen={pair?.[1] ?? 0}
                  choose={(number) => {
                    compared.value = [pair?.[0] ?? runs.value.at(-2)?.number ?? 0, number];
                  }}
                />
              </span>
            </>
          )}
        </div>
      )}
      {spread.value && <Spread times={spread.value.times} memory={spread.value.memory} />}
      {pair && pair[0] > 0 && pair[1] > 0 && (
        <>
          {textOf(pair[0]) === textOf(pair[1]) && (
            <p class="good" role="status">
              ● Both runs have printed the same.
            </p>
          )}
          <Beside left={textOf(pair[0])} right={textOf(pair[1])} kind={type} label={`Runs ${pair[0]} and ${pair[1]}`} />
        </>
      )}
    </div>
  );
}

/** The body as names and values, as a browser sends a form; there is always an empty row for the next. */
function FormEditor({ body, change }: { body: string; change: (body: string) => void }) {
  const rows: [string, string][] = [...new URLSearchParams(body), ["", ""]];
  const set = (at: number, part: 0 | 1, text: string) => {
    const next = rows.map((row, i): [string, string] =>
      i !== at ? row : part === 0 ? [text, row[1]] : [row[0], text],
    );
    change(new URLSearchParams(next.filter(([name, value]) => name || value)).toString());
  };
  return (
    <fieldset>
      <legend>The body as a form</legend>
      {rows.map(([name, value], i) => (
        <p key={i} class="tools">
          <input
            type="text"
            aria-label={`Name ${i + 1}`}
            placeholder="name"
            value={name}
            onChange={(event) => set(i, 0, event.currentTarget.value)}
          />
          <input
            type="text"
            class="grow"
            aria-label={`Value ${i + 1}`}
            placeholder="value"
            value={value}
            onChange={(event) => set(i, 1, event.currentTarget.value)}
          />
        </p>
      ))}
    </fieldset>
  );
}

function RunChoice({
  label,
  runs,
  chosen,
  choose,
}: {
  label: string;
  runs: Kept[];
  chosen: number;
  choose: (number: number) => void;
}) {
  return (
    <select aria-label={label} value={String(chosen)} onChange={(event) => choose(Number(event.currentTarget.value))}>
      <option value="0">–</option>
      {runs.map((run) => (
        <option key={run.number} value={String(run.number)}>
          {run.number}: {new Date(run.time).toLocaleTimeString()}, {run.asked}, {run.result.status}
        </option>
      ))}
    </select>
  );
}

function kindOf(path: string, source: Source | null): string {
  if (/\.[a-z0-9]+$/i.test(path)) return path;
  return source?.as ?? "";
}

export function RehearseView() {
  const site = place.value.what || (sites.value[0]?.name ?? "");
  const path = place.value.options.get("path") ?? "";
  const folder = place.value.options.get("in") ?? (path.slice(0, path.lastIndexOf("/") + 1) || "/");
  if (!site)
    return (
      <Empty title="There is no site yet, and so no script.">
        <p>
          <a href={to("sites")}>Add a site first</a>
        </p>
      </Empty>
    );
  return (
    <div class="rehearse">
      <TreeView site={site} path={folder} chosen={path} />
      {path ? (
        <Workshop key={`${site} ${path}`} site={site} path={path} />
      ) : (
        <Empty title="Choose a script at the left.">
          <p>
            It runs exactly as for a request, with its source beside its output, again whenever it is saved in your
            editor. Each file is marked with what would happen to it.
          </p>
        </Empty>
      )}
    </div>
  );
}
