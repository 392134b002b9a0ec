// The server's own log, as uporter log shows it.
import { useSignal } from "@preact/signals";
import { useEffect, useMemo } from "preact/hooks";
import { type LogLine, objects, query } from "../api";
import { clock, duration, size } from "../format";
import { bind } from "../keys";
import { Empty, Problem, StatusMark } from "../parts/basics";
import { Rows } from "../parts/rows";
import { place, withOptions } from "../router";
import { sites, starts } from "../store";

interface Line {
  key: string;
  line: LogLine;
  error: string;
}
const mostLines = 5000;

/** A line of the log, and its error stream as lines of their own below it. */
function rowsOf(line: LogLine, number: number): Line[] {
  const out: Line[] = [{ key: `${number}`, line, error: "" }];
  (line.error_lines ?? []).forEach((error, i) => {
    out.push({ key: `${number}-${i}`, line, error });
  });
  if (line.status === undefined)
    return line.text.split("\n").map((text, i) => ({ key: `${number}-${i}`, line: { text }, error: "" }));
  return out;
}

function LineView({ row }: { row: Line }) {
  const { line } = row;
  if (row.error) return <code class="error-line">{row.error}</code>;
  if (line.status === undefined) return <code>{line.text}</code>;
  return (
    <>
      <span class="time">{clock(line.time ?? "")}</span>
      <StatusMark status={line.status} />
      <span class="method">{line.method}</span>
      <code class="target">{line.target}</code>
      <span class="dimmed by">{line.answered_by}</span>
      <span class="number">{size(line.bytes ?? 0)}</span>
      <span class="number">{duration(line.milliseconds ?? 0)}</span>
    </>
  );
}

export function LogView() {
  const options = place.value.options;
  const site = options.get("site") ?? "";
  const errors = options.get("errors") === "yes";
  const words = options.get("f") ?? "";
  const rows = useSignal<Line[]>([]);
  const problem = useSignal<unknown>(null);
  const chosen = useSignal("");
  useEffect(() => {
    const abort = new AbortController();
    rows.value = [];
    problem.value = null;
    const read = async () => {
      let number = 0;
      let fresh: Line[] = [];
      let isPlanned = false;
      const flush = () => {
        isPlanned = false;
        rows.value = [...rows.value, ...fresh].slice(-mostLines);
        fresh = [];
      };
      for await (const line of objects<LogLine>(
        `/v1/log${query({ lines: 1000, follow: true, site, errors })}`,
        abort.signal,
      )) {
        fresh.push(...rowsOf(line, ++number));
        if (isPlanned) continue;
        isPlanned = true;
        setTimeout(flush, 50);
      }
    };
    read().catch((what) => {
      if (!abort.signal.aborted) problem.value = what;
    });
    return () => abort.abort();
  }, [site, errors, starts.value]);
  useEffect(() => bind(["/"], "Filter", () => document.getElementById("log-filter")?.focus()), []);
  const all = rows.value;
  const shown = useMemo(() => {
    const wanted = words.toLowerCase();
    return wanted ? all.filter((row) => `${row.line.text} ${row.error}`.toLowerCase().includes(wanted)) : all;
  }, [all, words]);
  return (
    <div class="fill">
      <div class="tools">
        <label>
          Filter{" "}
          <input
            id="log-filter"
            type="search"
            value={words}
            onInput={(event) => withOptions({ f: event.currentTarget.value })}
          />
        </label>
        <label>
          Site{" "}
          <select value={site} onChange={(event) => withOptions({ site: event.currentTarget.value })}>
            <option value="">all</option>
            {sites.value.map((one) => (
              <option key={one.name}>{one.name}</option>
            ))}
          </select>
        </label>
        <label>
          <input
            type="checkbox"
            checked={errors}
            onChange={(event) => withOptions({ errors: event.currentTarget.checked ? "yes" : "" })}
          />{" "}
          only what went wrong
        </label>
        <span class="dimmed">{shown.length.toLocaleString("en")} lines, new ones at the end</span>
      </div>
      <Problem of={problem.value} />
      {shown.length === 0 && !problem.value ? (
        <Empty title={words || errors ? "No line passes the filter." : "Nothing has been asked for yet."}>
          <p>Open a page of a site, and its line stands here at once.</p>
        </Empty>
      ) : (
        <Rows
          label="Log"
          rows={shown}
          keyOf={(row) => row.key}
          show={(row) => <LineView row={row} />}
          chosen={chosen.value}
          choose={(row) => {
            chosen.value = row.key;
          }}
          follows
        />
      )}
    </div>
  );
}
