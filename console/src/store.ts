// The state of the server, in one place that its events keep true.
import { batch, computed, signal } from "@preact/signals";
import { call, type ExchangePage, type ExchangeRow, events, type Finding, Refused, type Status } from "./api";

export type Connection = "connecting" | "live" | "gone" | "locked";

export const connection = signal<Connection>("connecting");
export const status = signal<Status | null>(null);
export const findings = signal<Finding[]>([]);
/** In the order of their numbers. The array is another one after each change. */
export const exchanges = signal<ExchangeRow[]>([]);
/** How many exchanges of before are not here: they were let go of by the server, or are more than are kept here. */
export const leftOut = signal(0);
/** Events that came faster than they were read. */
export const missed = signal(0);
/** Grows whenever the server is there again: what was followed before has ended. */
export const starts = signal(0);
/** Grows whenever settings have been applied. */
export const settingsApplied = signal(0);
/** The time, for texts such as "2 min ago"; it moves on every few seconds, and only while the page is seen. */
export const now = signal(Date.now());
/** Only exchanges above this number are listed; those before were cleared from view. */
export const clearedUpTo = signal(0);

export const sites = computed(() => status.value?.sites ?? []);

/** Of so many rows the last are held. */
const mostRows = 20_000;
const firstPage = 300;
const laterPages = 2_000;
const tryAgainAfter = 700;

/** Numbers of exchanges that have just come, where they come one by one. */
export const fresh = new Set<number>();
const mostFresh = 5;
const freshFor = 400;

let arrived: ExchangeRow[] = [];
let isFlushPlanned = false;

/** Puts what has come among the rows: once for all that come between two pictures. */
function flush(): void {
  isFlushPlanned = false;
  if (arrived.length === 0) return;
  const rows = arrived;
  arrived = [];
  if (rows.length <= mostFresh)
    for (const { number } of rows) {
      fresh.add(number);
      setTimeout(() => fresh.delete(number), freshFor);
    }
  exchanges.value = merged(exchanges.value, rows);
}

/** `rows` with `more` among them; of those with the same number the one in `more` stays. */
export function merged(rows: ExchangeRow[], more: ExchangeRow[]): ExchangeRow[] {
  const last = rows.at(-1)?.number ?? 0;
  const sorted = [...more].sort((a, b) => a.number - b.number);
  let out: ExchangeRow[];
  if ((sorted[0]?.number ?? 0) > last) {
    out = [...rows, ...sorted];
  } else {
    const all = new Map(rows.map((row) => [row.number, row]));
    for (const row of sorted) all.set(row.number, row);
    out = [...all.values()].sort((a, b) => a.number - b.number);
  }
  return out.length > mostRows ? out.slice(-mostRows) : out;
}

function add(row: ExchangeRow): void {
  arrived.push(row);
  if (isFlushPlanned) return;
  isFlushPlanned = true;
  // A page that is not seen draws no pictures.
  if (document.hidden) setTimeout(flush, 250);
  else requestAnimationFrame(flush);
}

export async function refreshStatus(): Promise<void> {
  const told = await call<Status>("/v1/status");
  batch(() => {
    status.value = told;
    findings.value = told.findings;
  });
}

async function loadExchanges(signal: AbortSignal): Promise<void> {
  const first = await call<ExchangePage>(`/v1/exchanges?limit=${firstPage}`, { signal });
  exchanges.value = first.exchanges;
  // Another start counts from 1 again.
  if (first.last < clearedUpTo.value) clearedUpTo.value = 0;
  void loadEarlier(first, signal).catch(() => {
    // What is there already is shown; the next connection tries again.
  });
}

/** The rest comes while the page is in use already. */
async function loadEarlier(from: ExchangePage, signal: AbortSignal): Promise<void> {
  let page = from;
  while (page.has_more && exchanges.value.length < mostRows) {
    const before = page.exchanges[0]?.number ?? 0;
    if (before <= 1) break;
    page = await call<ExchangePage>(`/v1/exchanges?limit=${laterPages}&before=${before}`, { signal });
    exchanges.value = merged(exchanges.value, page.exchanges);
  }
  leftOut.value = page.gone_up_to;
}

/** Those in progress are told of when they have lasted for a while; what is known of one is asked for then. */
async function lookAtProgress(number: number): Promise<void> {
  const page = await call<ExchangePage>(`/v1/exchanges?after=${number - 1}&before=${number + 1}`);
  for (const row of page.exchanges) add(row);
}

const begun = new Map<number, ReturnType<typeof setTimeout>>();

function take(type: string, text: string): void {
  const data = JSON.parse(text || "{}");
  switch (type) {
    case "exchange-begun":
      begun.set(
        data.number,
        setTimeout(() => {
          begun.delete(data.number);
          void lookAtProgress(data.number).catch(() => {});
        }, 250),
      );
      break;
    case "exchange-ended":
      clearTimeout(begun.get(data.number));
      begun.delete(data.number);
      add({ client: "", answered_by: data.kind, in_progress: false, ...data });
      break;
    case "state":
      if (status.value) status.value = { ...status.value, state: data.state };
      break;
    case "settings":
      settingsApplied.value += 1;
      void refreshStatus().catch(() => {});
      break;
    case "findings":
      findings.value = data.findings;
      break;
    case "lost":
      missed.value += data.count;
      break;
  }
}

async function followOnce(signal: AbortSignal): Promise<void> {
  await refreshStatus();
  const stream = events("/v1/events", signal);
  const first = await stream.next();
  if (first.done) return;
  await loadExchanges(signal);
  batch(() => {
    connection.value = "live";
    starts.value += 1;
  });
  for await (const event of stream) if (event.type) take(event.type, event.data);
}

/** Follows the server for as long as the page lives, from one start of it to the next. */
export async function follow(): Promise<void> {
  for (;;) {
    const abort = new AbortController();
    try {
      await followOnce(abort.signal);
      connection.value = "gone";
    } catch (problem) {
      const isLocked = problem instanceof Refused && problem.status === 401;
      connection.value = isLocked ? "locked" : "gone";
      if (isLocked) return;
    } finally {
      abort.abort();
    }
    for (const timer of begun.values()) clearTimeout(timer);
    begun.clear();
    await new Promise((resolve) => setTimeout(resolve, tryAgainAfter));
  }
}

export function keepTime(): void {
  setInterval(() => {
    if (document.hidden) return;
    now.value = Date.now();
    // What is counted there, requests and connections say, is told by no event.
    if (connection.value === "live") void refreshStatus().catch(() => {});
  }, 5000);
  document.addEventListener("visibilitychange", () => {
    now.value = Date.now();
  });
}
