// The live list of exchanges, with the one that is chosen beside it.
import { useSignal } from "@preact/signals";
import { useEffect, useMemo } from "preact/hooks";
import { call, type ExchangePage, type ExchangeRow, query } from "../api";
import { parseFilter } from "../filter";
import { clock, duration, exactBytes, size } from "../format";
import { bind } from "../keys";
import { Action, Empty, Problem, StatusMark } from "../parts/basics";
import { Rows } from "../parts/rows";
import { Split } from "../parts/split";
import { go, place, to, withOptions } from "../router";
import { clearedUpTo, exchanges, fresh, leftOut, sites } from "../store";
import { ExchangeDetail, saveHar } from "./exchange";

/** A row of the list: an exchange, or a line that its script wrote to its error stream. */
interface Listed {
  row: ExchangeRow;
  key: string;
  error?: string;
}

/** The script relative to the site that it belongs to. */
function by(row: ExchangeRow): string {
  const folder = sites.value.find((site) => site.name === row.site)?.folder ?? (sites.value[0]?.folder as string);
  return folder ? row.answered_by.replace(`${folder}/`, "") : row.answered_by;
}

function RowView({ of, isIndented }: { of: Listed; isIndented: boolean }) {
  const { row } = of;
  if (of.error !== undefined) return <code class="error-line">{of.error}</code>;
  const errors = row.errors ?? 0;
  return (
    <>
      <span class="number dimmed">{row.number}</span>
      <span class="time">{clock(row.time)}</span>
      <StatusMark status={row.status} inProgress={row.in_progress} />
      <span class="method">{row.method}</span>
      <code class={isIndented ? "target indented" : "target"}>{row.target}</code>
      <span class="dimmed by" title={row.answered_by}>
        {errors > 0 && (
          <span class="notice" title="Lines that its script wrote to its error stream">
            ▲ {errors} {errors === 1 ? "error line" : "error lines"}{" "}
          </span>
        )}
        {by(row)}
      </span>
      <span class="dimmed of-site">{row.site}</span>
      <span class="number" title={exactBytes(row.bytes)}>
        {size(row.bytes)}
      </span>
      <span class="number">{duration(row.milliseconds)}</span>
    </>
  );
}

/** Rows of one page load behind each other, each load behind the page that began it. */
export function grouped(rows: ExchangeRow[], pages: Map<number, number>): ExchangeRow[] {
  const loads = new Map<number, ExchangeRow[]>();
  const numbers = new Set(rows.map((row) => row.number));
  for (const row of rows) {
    const page = pages.get(row.number) ?? 0;
    const of = page > 0 && numbers.has(page) ? page : row.number;
    const load = loads.get(of);
    if (load) load.push(row);
    else loads.set(of, [row]);
  }
  return [...loads.values()].flat();
}

const placeOf = (rows: Listed[], key: string): number => rows.findIndex((one) => one.key === key);

/** The rows with the lines of their error streams behind them. */
function withErrors(rows: ExchangeRow[], lines: Map<number, string[]> | null): Listed[] {
  return rows.flatMap((row) => [
    { row, key: `${row.number}` },
    ...(lines?.get(row.number) ?? []).map((error, i) => ({ row, key: `${row.number}-${i}`, error })),
  ]);
}

export function ExchangesView() {
  const options = place.value.options;
  const words = options.get("f") ?? "";
  const isNewestFirst = options.get("order") !== "last";
  const isGrouped = options.get("group") === "page";
  const showsErrors = options.get("errors") === "yes";
  const isPaused = useSignal(false);
  const held = useSignal<ExchangeRow[]>([]);
  const inBytes = useSignal<{ words: string; numbers: Set<number> } | null>(null);
  const problem = useSignal<unknown>(null);
  const chosen = place.value.what;
  useEffect(() => bind(["/"], "Filter", () => document.getElementById("filter")?.focus()), []);
  useEffect(() => bind(["p"], "Freeze the list, or follow", () => pause(!isPaused.value)), []);
  const pause = (wanted: boolean) => {
    held.value = exchanges.peek();
    isPaused.value = wanted;
  };
  const all = isPaused.value ? held.value : exchanges.value;
  const cleared = clearedUpTo.value;
  const pages = useSignal(new Map<number, number>());
  // For which page each was loaded is asked for once new ones have been quiet for a moment.
  useEffect(() => {
    if (!isGrouped) return;
    const timer = setTimeout(() => {
      call<ExchangePage>("/v1/exchanges?limit=2000&pages=true").then(
        (page) => {
          pages.value = new Map(page.exchanges.map((row) => [row.number, row.page ?? 0]));
        },
        (what) => {
          problem.value = what;
        },
      );
    }, 300);
    return () => clearTimeout(timer);
  }, [isGrouped, all]);
  const errorLines = useSignal(new Map<number, string[]>());
  // What was written to error streams is asked for in the same way.
  useEffect(() => {
    if (!showsErrors) return;
    const timer = setTimeout(() => {
      call<ExchangePage>("/v1/exchanges?limit=2000&errors=true").then(
        (page) => {
          errorLines.value = new Map(page.exchanges.map((row) => [row.number, row.error_lines ?? []]));
        },
        (what) => {
          problem.value = what;
        },
      );
    }, 300);
    return () => clearTimeout(timer);
  }, [showsErrors, all]);
  const found = inBytes.value;
  const rows = useMemo(() => {
    const test = parseFilter(words);
    let out = cleared > 0 ? all.filter((row) => row.number > cleared) : all;
    if (found && found.words === words) out = out.filter((row) => found.numbers.has(row.number));
    else if (test) out = out.filter(test);
    if (isGrouped) return grouped(out, pages.value);
    return isNewestFirst ? [...out].reverse() : out;
  }, [all, cleared, words, isNewestFirst, isGrouped, found, pages.value]);
  const listed = useMemo(
    () => withErrors(rows, showsErrors ? errorLines.value : null),
    [rows, showsErrors, errorLines.value],
  );
  const look = async () => {
    const page = await call<ExchangePage>(`/v1/exchanges${query({ text: words, limit: 10000 })}`);
    inBytes.value = { words, numbers: new Set(page.exchanges.map((row) => row.number)) };
  };
  const isPartOf = (one: number) => ![0, one].includes(pages.value.get(one) ?? 0);
  const keep = (what: string) => to("exchanges", what, Object.fromEntries(options));
  const number = Number(chosen);
  const waiting = isPaused.value ? exchanges.value.length - held.value.length : 0;
  return (
    <Split
      label={`Exchange ${chosen}`}
      close={() => go(keep(""))}
      detail={number > 0 ? <ExchangeDetail key={chosen} number={number} /> : null}
    >
      <div class="fill">
        <div class="tools">
          <label class="grow">
            Filter{" "}
            <input
              id="filter"
              type="search"
              placeholder="4xx  post  site:office  words"
              spellcheck={false}
              value={words}
              onInput={(event) => withOptions({ f: event.currentTarget.value })}
            />
          </label>
          {words && (
            <Action run={look} working="Looking…" kind="quiet">
              Search contents
            </Action>
          )}
          <label>
            <input
              type="checkbox"
              checked={!isNewestFirst}
              onChange={(event) => withOptions({ order: event.currentTarget.checked ? "last" : "" })}
            />{" "}
            newest last
          </label>
          <label>
            <input
              type="checkbox"
              checked={isGrouped}
              onChange={(event) => withOptions({ group: event.currentTarget.checked ? "page" : "" })}
            />{" "}
            by page load
          </label>
          <label>
            <input
              type="checkbox"
              checked={showsErrors}
              onChange={(event) => withOptions({ errors: event.currentTarget.checked ? "yes" : "" })}
            />{" "}
            error lines
          </label>
          <button type="button" aria-pressed={isPaused.value} onClick={() => pause(!isPaused.value)}>
            {isPaused.value ? `Follow${waiting > 0 ? ` (${waiting} new)` : ""}` : "Freeze"}
          </button>
          <button
            type="button"
            onClick={() => {
              clearedUpTo.value = all.at(-1)?.number ?? 0;
            }}
          >
            Clear
          </button>
          {cleared > 0 && (
            <button
              type="button"
              class="quiet"
              onClick={() => {
                clearedUpTo.value = 0;
              }}
            >
              Show all again
            </button>
          )}
          <Action run={() => saveHar("", "exchanges.har")} working="Saving…" kind="quiet">
            Save as HAR
          </Action>
          <span class="dimmed" role="status">
            {rows.length.toLocaleString("en")}
            {rows.length !== all.length && ` of ${all.length.toLocaleString("en")}`}
          </span>
        </div>
        <Problem of={problem.value} />
        {rows.length === 0 ? (
          <Empty title={words || cleared > 0 ? "No matches." : "Nothing has been asked for yet."}>
            {words || cleared > 0 ? (
              <p>Take a word out of the filter, or show all again.</p>
            ) : (
              <p>
                Open a page:{" "}
                {sites.value.slice(0, 3).map((site) => (
                  <a key={site.name} href={site.url} target="_blank" rel="noreferrer">
                    {site.url}{" "}
                  </a>
                ))}
                What goes over the wire stands here at once.
              </p>
            )}
          </Empty>
        ) : (
          <Rows
            label="Exchanges"
            rows={listed}
            keyOf={(one) => one.key}
            indexOf={placeOf}
            isFresh={(one) => fresh.has(one.row.number)}
            show={(one) => <RowView of={one} isIndented={isGrouped && isPartOf(one.row.number)} />}
            chosen={chosen}
            choose={({ row }) => {
              // The way back leads to the list, however many were looked at.
              if (chosen) withOptions({}, `${row.number}`);
              else go(keep(`${row.number}`));
            }}
            follows={!isNewestFirst || isGrouped}
          />
        )}
        {leftOut.value > 0 && (
          <p class="dimmed">
            Of those up to number {leftOut.value.toLocaleString("en")} some are not kept any more, for want of room.
          </p>
        )}
      </div>
    </Split>
  );
}
