// Calls of the control interface, as docs/control.openapi.yaml describes them.
import type { components } from "./generated/api";
import { keepKey, key } from "./key";

type Schemas = components["schemas"];
export type Status = Schemas["Status"];
export type Site = Schemas["Site"];
export type Finding = Schemas["Finding"];
export type ExchangeRow = Schemas["ExchangeRow"];
export type Exchange = Schemas["Exchange"];
export type ExchangeRun = Schemas["ExchangeRun"];
export type Wire = Schemas["Wire"];
export type Difference = Schemas["Difference"];
export type Language = Schemas["Language"];
export type LanguageFacts = Schemas["LanguageFacts"];
export type Folders = Schemas["Folders"];
export type Tree = Schemas["Tree"];
export type Source = Schemas["Source"];
export type Rehearsed = Schemas["Rehearsed"];
export type SettingsText = Schemas["SettingsText"];
export type SettingsCheck = Schemas["SettingsCheck"];
export type LogLine = Schemas["LogLine"];
export type Explanation = Schemas["Explanation"];
export interface ExchangePage {
  exchanges: ExchangeRow[];
  last: number;
  gone_up_to: number;
  lost: number;
  has_more: boolean;
}

/** A call that was not followed: its findings say why. Status 0: the server did not answer. */
export class Refused extends Error {
  constructor(
    readonly status: number,
    readonly findings: Finding[],
  ) {
    super(findings.map((finding) => finding.sentence).join(" "));
  }
}

const ownFinding = (code: string, sentence: string, remedy: string): Finding => ({
  code,
  sentence,
  remedy,
  text: sentence,
});

/** What is shown of whatever was thrown. */
export function findingsOf(problem: unknown): Finding[] {
  if (problem instanceof Refused) return problem.findings;
  return [ownFinding("console-fault", `The console has failed: ${String(problem)}.`, "Load the page again.")];
}

interface Wish {
  method?: string;
  body?: unknown;
  signal?: AbortSignal;
}

async function send(path: string, wish: Wish): Promise<Response> {
  const fields: Record<string, string> = { Authorization: `Bearer ${key()}` };
  const init: RequestInit = { method: wish.method ?? "GET", headers: fields, cache: "no-store", credentials: "omit" };
  if (wish.signal) init.signal = wish.signal;
  if (wish.body !== undefined) {
    fields["Content-Type"] = "application/json";
    init.body = JSON.stringify(wish.body);
  }
  return await fetch(path, init);
}

/** After a restart the key is another one, and who has that of the start before may have it. */
async function renewKey(): Promise<boolean> {
  const reply = await send("/v1/console/key", {});
  if (!reply.ok) return false;
  keepKey((await reply.json()).key);
  return true;
}

/** The reply to a call; throws Refused. */
export async function ask(path: string, wish: Wish = {}): Promise<Response> {
  let reply: Response;
  try {
    reply = await send(path, wish);
    if (reply.status === 401 && (await renewKey())) reply = await send(path, wish);
  } catch (problem) {
    if (wish.signal?.aborted) throw problem;
    throw new Refused(0, [
      ownFinding(
        "server-gone",
        "The server does not answer.",
        "It is tried again by itself. To start it: uporter start",
      ),
    ]);
  }
  if (reply.ok) return reply;
  let findings: Finding[] = [];
  try {
    findings = (await reply.json()).findings;
  } catch {
    // Told below.
  }
  if (!Array.isArray(findings) || findings.length === 0)
    findings = [
      ownFinding("no-reply", `The server has answered ${reply.status} without a reason.`, "Look into its log."),
    ];
  throw new Refused(reply.status, findings);
}

export async function call<T>(path: string, wish: Wish = {}): Promise<T> {
  return (await (await ask(path, wish)).json()) as T;
}

export const post = <T>(path: string, body: unknown = {}, signal?: AbortSignal): Promise<T> =>
  call<T>(path, signal ? { method: "POST", body, signal } : { method: "POST", body });

/** A query of those values that are not empty. */
export function query(values: Record<string, string | number | boolean | undefined>): string {
  const words = new URLSearchParams();
  for (const [name, value] of Object.entries(values))
    if (value !== undefined && value !== "" && value !== false) words.set(name, String(value));
  // A plus is no space to everybody.
  const text = words.toString().replaceAll("+", "%20");
  return text ? `?${text}` : "";
}

async function* linesOf(reply: Response): AsyncGenerator<string> {
  const reader = reply.body?.getReader();
  if (!reader) return;
  const decoder = new TextDecoder();
  let rest = "";
  for (;;) {
    const { done, value } = await reader.read();
    rest += done ? decoder.decode() : decoder.decode(value, { stream: true });
    const lines = rest.split("\n");
    rest = lines.pop() ?? "";
    yield* lines;
    if (done) return;
  }
}

export interface ServerEvent {
  type: string;
  data: string;
}

/** Server-sent events (WHATWG HTML, section 9.2), read with fetch since they need the key. Ends when they end. */
export async function* events(path: string, signal: AbortSignal): AsyncGenerator<ServerEvent> {
  const reply = await ask(path, { signal });
  let event: ServerEvent = { type: "", data: "" };
  for await (const line of linesOf(reply)) {
    if (line === "") {
      yield event;
      event = { type: "", data: "" };
      continue;
    }
    const colon = line.indexOf(":");
    const name = line.slice(0, colon);
    const value = line.slice(colon + 1).replace(/^ /, "");
    if (name === "event") event.type = value;
    if (name === "data") event.data += (event.data ? "\n" : "") + value;
  }
}

/** Objects that come a line each, until they end. */
export async function* objects<T>(path: string, signal: AbortSignal): AsyncGenerator<T> {
  for await (const line of linesOf(await ask(path, { signal }))) if (line) yield JSON.parse(line) as T;
}
