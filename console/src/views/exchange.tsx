// One exchange: what was asked, what came back, what ran for it and why.
import { useSignal } from "@preact/signals";
import { ask, call, type Difference, type Exchange, Refused, type Wire } from "../api";
import { asSent, bytesOfEdited, type EditableText, editableText, toBase64, withoutChunks } from "../bytes";
import { duration, exactBytes, size } from "../format";
import { Action, Copy, Findings, Problem, Scrolled, StatusMark, Tabs, useCall } from "../parts/basics";
import { BodyView } from "../parts/body";
import { Beside } from "../parts/code";
import { Fields, RunView, TimingBar } from "../parts/exchange";
import { go, place, to, withOptions } from "../router";
import { exchanges } from "../store";
import { Path } from "./explain";

const bytesOf = async (path: string, signal: AbortSignal): Promise<Uint8Array> =>
  new Uint8Array(await (await ask(path, { signal })).arrayBuffer());

function fieldOf(wire: Wire, name: string): string {
  return wire.fields.find((field) => field.name.toLowerCase() === name)?.value ?? "";
}

/** One direction: as it is read, or as it was sent. */
function Side({ exchange, side }: { exchange: Exchange; side: "request" | "response" }) {
  const wire = exchange[side];
  const isRaw = useSignal(false);
  const path = `/v1/exchanges/${exchange.number}`;
  const { value, problem } = useCall<Uint8Array>(
    async (signal) => {
      if (isRaw.value) return await bytesOf(`${path}/${side}`, signal);
      if (side === "response") return await bytesOf(`${path}/page`, signal);
      return (await bytesOf(`${path}/request`, signal)).subarray(wire.head_bytes);
    },
    [exchange.number, side, isRaw.value, exchange.in_progress],
  );
  return (
    <section aria-label={side === "request" ? "What was asked" : "What came back"}>
      <p class="tools">
        <code class="start-line">{wire.start_line || "(nothing came)"}</code>
        <span class="grow" />
        <label>
          <input
            type="checkbox"
            checked={isRaw.value}
            onChange={(event) => {
              isRaw.value = event.currentTarget.checked;
            }}
          />{" "}
          Raw
        </label>
      </p>
      {wire.kept_bytes < wire.bytes && (
        <p class="notice">
          ▲ Only {size(wire.kept_bytes)} of {size(wire.bytes)} are kept.
        </p>
      )}
      {isRaw.value ? (
        value.value && <Scrolled kind="bytes">{asSent(value.value)}</Scrolled>
      ) : (
        <>
          <Fields wire={wire} label={side === "request" ? "Fields of the request" : "Fields of the response"} />
          {value.value && (
            <BodyView
              bytes={value.value}
              type={fieldOf(wire, "content-type")}
              label={side === "request" ? "Body" : "Page"}
            />
          )}
        </>
      )}
      <Problem of={problem.value} />
      {!value.value && !problem.value && <p class="dimmed">Reading…</p>}
    </section>
  );
}

function Again({ exchange }: { exchange: Exchange }) {
  const isChanging = useSignal(false);
  const method = useSignal(exchange.method);
  const target = useSignal(exchange.target);
  const fields = useSignal(exchange.request.fields.map((field) => `${field.name}: ${field.value}`).join("\n"));
  const body = useSignal<EditableText | null>(null);
  const before = useSignal("");
  const isBinary = useSignal(false);
  const isSafe = /^(GET|HEAD|OPTIONS|TRACE)$/.test(exchange.method);
  const isAsking = useSignal(false);
  const send = async (change: Record<string, unknown>) => {
    const done = await call<{ number: number }>(`/v1/exchanges/${exchange.number}/again`, {
      method: "POST",
      body: change,
    });
    go(to("exchanges", `${done.number}`, { with: `${exchange.number}`, part: "compare" }));
  };
  const change = () => {
    const now = fields.value
      .split("\n")
      .map((line) => line.trim())
      .filter(Boolean)
      .map((line) => {
        const colon = line.indexOf(":");
        return { name: line.slice(0, colon).trim(), value: line.slice(colon + 1).trim() };
      });
    const names = new Set(now.map((field) => field.name.toLowerCase()));
    const asSentFields = new Map(exchange.request.fields.map((field) => [field.name.toLowerCase(), field.value]));
    const out: Record<string, unknown> = {
      fields: now.filter((field) => asSentFields.get(field.name.toLowerCase()) !== field.value),
      without: exchange.request.fields.map((field) => field.name).filter((name) => !names.has(name.toLowerCase())),
    };
    if (method.value !== exchange.method) out.method = method.value;
    if (target.value !== exchange.target) out.target = target.value;
    // What was not touched is sent byte by byte as it was.
    if (body.value && body.value.text !== before.value) out.body_base64 = toBase64(bytesOfEdited(body.value));
    return out;
  };
  const readBody = async () => {
    const all = new Uint8Array(await (await ask(`/v1/exchanges/${exchange.number}/request`)).arrayBuffer());
    const sent = all.subarray(exchange.request.head_bytes);
    const isChunked = exchange.request.fields.some(
      (field) => /^transfer-encoding$/i.test(field.name) && /chunked/i.test(field.value),
    );
    const plain = isChunked ? withoutChunks(sent) : sent;
    body.value = plain && editableText(plain);
    before.value = body.value?.text ?? "";
    isBinary.value = body.value === null;
  };
  return (
    <>
      {isSafe || isAsking.value ? (
        <Action run={() => send({})} working="Sending…">
          {isSafe ? "Send again" : `Send the ${exchange.method} once more`}
        </Action>
      ) : (
        <button
          type="button"
          onClick={() => {
            isAsking.value = true;
          }}
          title={`A ${exchange.method} may change something each time that it is sent`}
        >
          Send again…
        </button>
      )}
      <button
        type="button"
        aria-expanded={isChanging.value}
        onClick={() => {
          isChanging.value = !isChanging.value;
        }}
      >
        Change and send
      </button>
      {isAsking.value && !isSafe && (
        <span class="notice" role="status">
          ▲ What the {exchange.method} did, it will do a second time.
        </span>
      )}
      {isChanging.value && (
        <fieldset class="change">
          <legend>The request as it is to be sent</legend>
          <p class="tools">
            <label>
              Method{" "}
              <input
                type="text"
                size={8}
                value={method.value}
                onInput={(event) => {
                  method.value = event.currentTarget.value;
                }}
              />
            </label>
            <label class="grow">
              Target{" "}
              <input
                type="text"
                spellcheck={false}
                value={target.value}
                onInput={(event) => {
                  target.value = event.currentTarget.value;
                }}
              />
            </label>
          </p>
          <label>
            Fields, one on each line
            <textarea
              rows={6}
              spellcheck={false}
              value={fields.value}
              onInput={(event) => {
                fields.value = event.currentTarget.value;
              }}
            />
          </label>
          {isBinary.value ? (
            <p class="dimmed">
              The body is not text, so it is sent as it was. To send another one:{" "}
              <code>uporter again {exchange.number} --body FILE</code>
            </p>
          ) : body.value === null ? (
            <p>
              <Action run={readBody} working="Reading…" kind="quiet">
                Change the body, too
              </Action>
            </p>
          ) : (
            <label>
              Body
              <textarea
                rows={5}
                spellcheck={false}
                value={body.value.text}
                onInput={(event) => {
                  body.value = { text: event.currentTarget.value, crlf: body.value?.crlf ?? false };
                }}
              />
            </label>
          )}
          <Action run={() => send(change())} working="Sending…" kind="strong">
            Send it
          </Action>
        </fieldset>
      )}
    </>
  );
}

function Compare({ exchange, other }: { exchange: Exchange; other: number }) {
  const { value, problem } = useCall<{ difference: Difference; left: string; right: string; type: string }>(
    async (signal) => {
      const difference = await call<Difference>(`/v1/exchanges/${other}/difference/${exchange.number}`, { signal });
      const decoder = new TextDecoder();
      const page = async (number: number) =>
        decoder.decode((await bytesOf(`/v1/exchanges/${number}/page`, signal)).subarray(0, 300_000));
      const [left, right] = await Promise.all([page(other), page(exchange.number)]);
      return { difference, left, right, type: fieldOf(exchange.response, "content-type") };
    },
    [exchange.number, other],
  );
  const recent = exchanges.value.filter((row) => row.number !== exchange.number).slice(-200);
  const told = value.value;
  return (
    <section aria-label="Comparison">
      <p class="tools">
        <label>
          Compare with{" "}
          <input
            type="number"
            min={1}
            list="others"
            value={other || ""}
            onChange={(event) => withOptions({ with: event.currentTarget.value })}
          />
        </label>
        <datalist id="others">
          {recent.reverse().map((row) => (
            <option key={row.number} value={row.number}>
              {row.method} {row.target}, {row.status}
            </option>
          ))}
        </datalist>
        {told && (
          <b class={told.difference.alike ? "good" : "notice"}>{told.difference.alike ? "● Alike" : "◆ They differ"}</b>
        )}
      </p>
      {other > 0 && <Problem of={problem.value} />}
      {other === 0 && <p class="dimmed">Give the number of another exchange: the one before, say.</p>}
      {told && (
        <>
          <table class="wide">
            <caption class="unseen">What differs</caption>
            <thead>
              <tr>
                <th scope="col">What</th>
                <th scope="col">{told.difference.left}</th>
                <th scope="col">{told.difference.right}</th>
              </tr>
            </thead>
            <tbody>
              {rowsOf(told.difference).map(([what, left, right]) => (
                <tr key={what} class={left === right ? "dimmed" : ""}>
                  <th scope="row">{what}</th>
                  <td>{left}</td>
                  <td>{right}</td>
                </tr>
              ))}
            </tbody>
          </table>
          {(told.difference.fields_left_out ?? 0) > 0 && (
            <details class="dimmed">
              <summary>
                {told.difference.fields_left_out === 1
                  ? "A header that always differs is left out"
                  : `${told.difference.fields_left_out} headers that always differ are left out`}
              </summary>
              {(told.difference.names_left_out ?? []).join(", ")}
            </details>
          )}
          <Beside left={told.left} right={told.right} kind={told.type} label="Pages" />
        </>
      )}
    </section>
  );
}

function rowsOf(difference: Difference): [string, string, string][] {
  const text = (value: unknown): string =>
    value === undefined || value === null ? "–" : Array.isArray(value) ? value.join(", ") || "–" : String(value);
  const of = (pair: unknown): [unknown, unknown] => {
    const both = (pair ?? {}) as { left?: unknown; right?: unknown };
    return [both.left, both.right];
  };
  const out: [string, string, string][] = [];
  if (difference.status) {
    const [left, right] = of(difference.status);
    out.push(["Status", text(left), text(right)]);
  }
  for (const field of difference.fields ?? []) out.push([field.name ?? "", text(field.left), text(field.right)]);
  if (difference.milliseconds) {
    const [left, right] = of(difference.milliseconds);
    out.push(["Time", duration(Number(left)), duration(Number(right))]);
  }
  for (const run of difference.runs ?? []) {
    const [left, right] = of(run);
    out.push([String((run as { what?: string }).what), text(left), text(right)]);
  }
  return out;
}

function save(name: string, text: string): void {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([text], { type: "application/json" }));
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 1000);
}

export async function saveHar(filter: string, name: string): Promise<void> {
  save(name, await (await ask(`/v1/exchanges.har?limit=10000${filter}`)).text());
}

export function ExchangeDetail({ number }: { number: number }) {
  const row = exchanges.value.find((one) => one.number === number);
  const { value, problem } = useCall<Exchange>(
    (signal) => call(`/v1/exchanges/${number}`, { signal }),
    [number, row?.in_progress, row?.status],
  );
  const exchange = value.value;
  const part = place.value.options.get("part") ?? "response";
  if (problem.value) {
    const isGone = problem.value instanceof Refused && problem.value.status === 410;
    return (
      <>
        <h2>Exchange {number}</h2>
        {isGone && <p class="notice">It has gone while you looked: the oldest go first, for want of room.</p>}
        <Problem of={problem.value} />
      </>
    );
  }
  if (!exchange || exchange.number !== number) return <p class="dimmed">Reading exchange {number}…</p>;
  const copyCurl = async () => {
    await navigator.clipboard.writeText((await (await ask(`/v1/exchanges/${number}/curl`)).text()).trimEnd());
  };
  const names: Record<string, string> = { response: "Response", request: "Request" };
  if (exchange.runs.length > 0) names.run = exchange.runs.length > 1 ? `${exchange.runs.length} runs` : "Run";
  names.trail = "Trail";
  names.compare = "Compare";
  const shown = part in names ? part : "response";
  return (
    <>
      <h2 class="asked">
        {exchange.method} <code>{exchange.target}</code>
      </h2>
      <p class="summary">
        <StatusMark status={exchange.status} inProgress={exchange.in_progress} />
        {exchange.findings.length === 0 && <span>{exchange.answered_by}</span>}
        {exchange.site && <span>site {exchange.site}</span>}
        <span title={exactBytes(exchange.bytes)}>{size(exchange.bytes)}</span>
        <span>{duration(exchange.timing.all)}</span>
        <span class="dimmed">
          #{exchange.number}, {new Date(exchange.time).toLocaleTimeString()}, from {exchange.client}
        </span>
        {exchange.repeats && <a href={to("exchanges", `${exchange.repeats}`)}>repeats #{exchange.repeats}</a>}
      </p>
      <Findings all={exchange.findings} />
      <TimingBar exchange={exchange} />
      <div class="tools">
        <Again exchange={exchange} />
        <Action run={copyCurl} working="Copying…" done="Copied." kind="quiet">
          Copy for curl
        </Action>
        <Action
          run={() => saveHar(`&after=${number - 1}&before=${number + 1}`, `exchange-${number}.har`)}
          working="Saving…"
          kind="quiet"
        >
          Save as HAR
        </Action>
        {exchange.method === "GET" && (
          <a href={`http://${fieldOf(exchange.request, "host")}${exchange.target}`} target="_blank" rel="noreferrer">
            Open it
          </a>
        )}
        <Copy text={`http://${fieldOf(exchange.request, "host")}${exchange.target}`}>Copy its address</Copy>
      </div>
      <Tabs label="Parts of the exchange" names={names} chosen={shown} choose={(name) => withOptions({ part: name })} />
      {shown === "response" && <Side key="response" exchange={exchange} side="response" />}
      {shown === "request" && <Side key="request" exchange={exchange} side="request" />}
      {shown === "run" && exchange.runs.map((run, i) => <RunView key={i} run={run} />)}
      {shown === "trail" && (
        <Path
          steps={exchange.trail}
          end={`${exchange.status || "No response"}: ${exchange.answered_by}`}
          isFine={exchange.findings.length === 0}
        />
      )}
      {shown === "compare" && (
        <Compare exchange={exchange} other={Number(place.value.options.get("with")) || exchange.repeats || 0} />
      )}
    </>
  );
}
