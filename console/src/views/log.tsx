// What the server says of itself: starts, settings that were applied or refused, addresses, and what it met. Requests
// stand at Exchanges.
import { useSignal } from "@preact/signals";
import { useEffect, useMemo } from "preact/hooks";
import { type LogLine, objects, query } from "../api";
import { bind } from "../keys";
import { Empty, Problem } from "../parts/basics";
import { Rows } from "../parts/rows";
import { place, to, withOptions } from "../router";
import { starts } from "../store";

interface Line {
  key: string;
  text: string;
}
const mostLines = 5000;

export function LogView() {
  const words = place.value.options.get("f") ?? "";
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
      const wanted = query({ limit: 1000, follow: true, own: true });
      for await (const line of objects<LogLine>(`/v1/log${wanted}`, abort.signal)) {
        for (const text of line.text.split("\n")) fresh.push({ key: `${++number}`, text });
        if (isPlanned) continue;
        isPlanned = true;
        setTimeout(flush, 50);
      }
    };
    read().catch((what) => {
      if (!abort.signal.aborted) problem.value = what;
    });
    return () => abort.abort();
  }, [starts.value]);
  useEffect(() => bind(["/"], "Filter", () => document.getElementById("log-filter")?.focus()), []);
  const all = rows.value;
  const shown = useMemo(() => {
    const wanted = words.toLowerCase();
    return wanted ? all.filter((row) => row.text.toLowerCase().includes(wanted)) : all;
  }, [all, words]);
  return (
    <div class="fill">
      <div class="tools">
        <label class="grow">
          Filter{" "}
          <input
            id="log-filter"
            type="search"
            value={words}
            onInput={(event) => withOptions({ f: event.currentTarget.value })}
          />
        </label>
        <a href={to("exchanges", "", { errors: "yes" })}>Requests, with the scripts' error lines</a>
        <span class="dimmed">{shown.length.toLocaleString("en")} lines, new ones at the end</span>
      </div>
      <Problem of={problem.value} />
      {shown.length === 0 && !problem.value ? (
        <Empty title={words ? "No line passes the filter." : "The server has said nothing yet."}>
          <p>
            What it says of itself stands here: settings that were applied or refused, addresses, what is wrong.
            Requests stand at <a href={to("exchanges")}>Exchanges</a>.
          </p>
        </Empty>
      ) : (
        <Rows
          label="Log"
          rows={shown}
          keyOf={(row) => row.key}
          show={(row) => <code>{row.text}</code>}
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
