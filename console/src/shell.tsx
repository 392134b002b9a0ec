// The sheet: the names of the views at the left, a sentence with the state at the top, the view in the middle.
import { computed, signal } from "@preact/signals";
import type { FunctionComponent } from "preact";
import { useEffect } from "preact/hooks";
import { post } from "./api";
import { span } from "./format";
import { bind, present } from "./keys";
import { Action, Empty, Findings } from "./parts/basics";
import { go, place, to } from "./router";
import { connection, exchanges, findings, missed, now, status } from "./store";
import { ExchangesView } from "./views/exchanges";
import { ExplainView } from "./views/explain";
import { LanguagesView } from "./views/languages";
import { LogView } from "./views/log";
import { RehearseView } from "./views/rehearse";
import { SettingsView } from "./views/settings";
import { SitesView } from "./views/sites";

const views: {
  name: string;
  title: string;
  shows: FunctionComponent;
  /** How many wait there, and what of. */
  waiting?: () => string;
  told?: string;
}[] = [
  { name: "sites", title: "Sites", shows: SitesView },
  {
    name: "exchanges",
    title: "Exchanges",
    shows: ExchangesView,
    waiting: () => {
      const wrong = exchanges.value.slice(-500).filter((row) => row.status >= 500 || (row.errors ?? 0) > 0).length;
      return wrong > 0 ? `${wrong}` : "";
    },
    told: "failed, or wrote to their error streams",
  },
  { name: "rehearse", title: "Rehearse", shows: RehearseView },
  { name: "explain", title: "Explain", shows: ExplainView },
  {
    name: "settings",
    title: "Settings",
    shows: SettingsView,
    waiting: () => (findings.value.length > 0 ? `${findings.value.length}` : ""),
    told: "are wrong",
  },
  { name: "languages", title: "Languages", shows: LanguagesView },
  { name: "log", title: "Log", shows: LogView },
];

const areKeysShown = signal(false);
const view = computed(() => views.find((one) => one.name === place.value.view));

/** "localhost:8080 and localhost:8081". */
function listed(names: string[]): string {
  if (names.length <= 1) return names[0] ?? "nowhere";
  return `${names.slice(0, -1).join(", ")} and ${names.at(-1)}`;
}

function StateSentence() {
  const state = status.value;
  if (connection.value === "gone")
    return (
      <p class="state">
        <span class="wrong">○ Gone.</span> The server does not answer. Reconnecting… To start it, type{" "}
        <code>uporter start</code>.
      </p>
    );
  if (!state) return <p class="state dimmed">◐ Asking the server…</p>;
  const addresses = listed(state.addresses.map((one) => one.address));
  const seconds = (now.value - Date.parse(state.since)) / 1000;
  const isOpen = state.addresses.some(({ address }) => !/^(localhost|127\.|\[::1\])/.test(address));
  if (state.state === "paused")
    return (
      <p class="state">
        <span class="notice">○ Paused.</span> Nothing answers at {addresses}; the server has been running for{" "}
        {span(seconds)}.
      </p>
    );
  if (state.state === "stopping")
    return (
      <p class="state">
        <span class="notice">◐ Stopping.</span> What is in progress gets a moment to finish.
      </p>
    );
  return (
    <p class="state" title={`Since ${new Date(state.since).toString()}`}>
      <span class="good">● Answering</span> at {addresses} for {span(seconds)};{" "}
      {isOpen ? <b class="notice">other computers in the network can reach it</b> : "only this computer can reach it"}.
    </p>
  );
}

function PauseOrResume() {
  const state = status.value?.state;
  if (connection.value !== "live" || !state || state === "stopping") return null;
  return state === "paused" ? (
    <Action run={() => post("/v1/resume")} working="Opening…" kind="strong">
      Resume answering
    </Action>
  ) : (
    <Action run={() => post("/v1/pause")} working="Closing…">
      Pause answering
    </Action>
  );
}

function Keys() {
  useEffect(
    () =>
      bind(["Escape"], "Close this list", () => {
        areKeysShown.value = false;
      }),
    [],
  );
  return (
    <div class="keys" role="dialog" aria-label="Keys">
      <h2>Keys</h2>
      <dl>
        {present().map(({ keys, told }) => (
          <div key={told}>
            <dt>
              {keys.map((key) => (
                <kbd key={key}>{key}</kbd>
              ))}
            </dt>
            <dd>{told}</dd>
          </div>
        ))}
      </dl>
      <p>
        <button
          type="button"
          class="quiet"
          onClick={() => {
            areKeysShown.value = false;
          }}
        >
          Close
        </button>
      </p>
    </div>
  );
}

function Locked() {
  return (
    <main class="locked">
      <h1>The key is missing</h1>
      <p>
        This page controls the server on this computer, so it opens only with the key that the server makes at each
        start.
      </p>
      <p>Open it with:</p>
      <p class="command">
        <code>uporter open console</code>
      </p>
      <p class="dimmed">
        The start lines of the server and <code>uporter status</code> show the same address, with its key.
      </p>
    </main>
  );
}

export function Sheet() {
  useEffect(() => {
    const ends = [
      bind(["?"], "Show the shortcuts", () => {
        areKeysShown.value = !areKeysShown.value;
      }),
      ...views.map((one, i) => bind([String(i + 1)], `Go to ${one.title}`, () => go(to(one.name)))),
    ];
    return () => {
      for (const end of ends) end();
    };
  }, []);
  useEffect(() => {
    document.title = `${view.value?.title ?? "Console"} – Upright Porter`;
  }, [view.value]);
  if (connection.value === "locked") return <Locked />;
  const Shown = view.value?.shows;
  const state = status.value;
  return (
    <div class="sheet">
      <nav aria-label="Views">
        <p class="name">Upright Porter</p>
        <ul>
          {views.map((one) => {
            const waiting = one.waiting?.() ?? "";
            return (
              <li key={one.name}>
                <a href={to(one.name)} aria-current={place.value.view === one.name ? "page" : undefined}>
                  {one.title}
                  {waiting && (
                    <span class="waiting" title={`${waiting} ${one.told}`}>
                      <span aria-hidden="true">▲</span> {waiting}
                    </span>
                  )}
                </a>
              </li>
            );
          })}
        </ul>
        <p class="foot">
          {state && (
            <>
              {state.requests.toLocaleString("en")} answered
              <br />
              {state.connections} connected
              <br />
            </>
          )}
          <button
            type="button"
            class="quiet"
            onClick={() => {
              areKeysShown.value = true;
            }}
          >
            Keys: ?
          </button>
        </p>
      </nav>
      <div class="page">
        <header>
          <div class="line">
            <StateSentence />
            <PauseOrResume />
          </div>
          {findings.value.length > 0 && <Findings all={findings.value} />}
          {missed.value > 0 && (
            <p class="dimmed">
              {missed.value} events came faster than this page could take them, and are missing below.
            </p>
          )}
        </header>
        <main id="view">
          <h1 class="unseen">{view.value?.title ?? "Console"}</h1>
          {Shown ? (
            <Shown />
          ) : (
            <Empty title="There is no such view.">
              <p>
                <a href={to("sites")}>Go to the sites</a>
              </p>
            </Empty>
          )}
        </main>
      </div>
      {areKeysShown.value && <Keys />}
    </div>
  );
}
