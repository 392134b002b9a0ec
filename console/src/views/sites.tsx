// What is served, and how it is doing.
import { useSignal } from "@preact/signals";
import { useMemo } from "preact/hooks";
import { call, type ExchangeRow, type Finding, post, type Site } from "../api";
import { ago, duration, meaning, tone } from "../format";
import { Action, Copy, Empty, FindingView, Path, Problem, Question, useCall } from "../parts/basics";
import { FolderBrowser } from "../parts/folders";
import { takeNextPort, takenPort } from "../parts/ports";
import { place, to } from "../router";
import { exchanges, findings, now, refreshStatus, sites, status } from "../store";

const minutes = 10;
const step = 15_000;

/** Requests of the last minutes, a point for each quarter of a minute. */
function Line({ rows }: { rows: ExchangeRow[] }) {
  const until = now.value;
  const counts = useMemo(() => {
    const out = new Array<number>((minutes * 60_000) / step).fill(0);
    for (let i = rows.length - 1; i >= 0; --i) {
      const age = until - Date.parse(rows[i]?.time ?? "");
      const at = out.length - 1 - Math.floor(Math.max(0, age) / step);
      if (at < 0) break;
      out[at] = (out[at] ?? 0) + 1;
    }
    return out;
  }, [rows, until]);
  const all = counts.reduce((sum, count) => sum + count, 0);
  const most = Math.max(1, ...counts);
  const points = counts.map((count, i) => `${i * 3},${19 - (count / most) * 17}`).join(" ");
  const told = `${all} ${all === 1 ? "request" : "requests"} in the last ${minutes} min`;
  return (
    <span class="line-of-requests">
      <svg width={counts.length * 3} height="20" role="img" aria-label={told}>
        <polyline points={points} />
      </svg>
      <span class="dimmed">{told}</span>
    </span>
  );
}

function Marks({ rows, most }: { rows: ExchangeRow[]; most: number }) {
  return (
    <span class="marks">
      {rows.slice(-most).map((row) => (
        <a
          key={row.number}
          href={to("exchanges", `${row.number}`)}
          class={`mark ${tone(row.status)}`}
          title={`${row.status} ${meaning(row.status)}: ${row.method} ${row.target}`}
        >
          <span class="unseen">
            {row.status} {row.target}
          </span>
          <span aria-hidden="true">{row.status >= 500 || row.status === 0 ? "▲" : row.status >= 400 ? "◆" : "●"}</span>
        </a>
      ))}
    </span>
  );
}

function LastResponses({ rows }: { rows: ExchangeRow[] }) {
  const latest = rows.at(-1);
  if (!latest) return <span class="dimmed">Nothing has been asked for yet.</span>;
  return (
    <>
      <Marks rows={rows} most={24} />{" "}
      <span class="dimmed" title={latest.time}>
        last {ago(Date.parse(latest.time), now.value)}, {latest.status} in {duration(latest.milliseconds)}
      </span>
    </>
  );
}

/** The URLs for other devices, and the first as a code for a camera. */
function OtherDevices({ site }: { site: Site }) {
  const isSettled = (status.value?.settings ?? "") !== "";
  const rows = site.network_code ?? [];
  const urls = site.network_urls ?? [];
  const margin = 2;
  const width = rows.length + 2 * margin;
  if (urls.length === 0)
    return isSettled ? (
      <Question
        ask={`Every device in the network will be able to open ${site.name}, at a port of its own.`}
        yes="Let them in"
        run={() => call(`/v1/sites/${encodeURIComponent(site.name)}`, { method: "PATCH", body: { reach: "network" } })}
      >
        Let other devices reach it
      </Question>
    ) : (
      <span class="dimmed">do not reach it</span>
    );
  return (
    <>
      {urls.map((url) => (
        <div key={url}>
          <a href={url} target="_blank" rel="noreferrer">
            {url}
          </a>{" "}
          <Copy text={url} />
        </div>
      ))}
      {rows.length > 0 && (
        <details>
          <summary>Code for a camera</summary>
          <svg class="qr-code" viewBox={`0 0 ${width} ${width}`} role="img" aria-label={`QR code of ${urls[0]}`}>
            <rect width={width} height={width} fill="#fff" />
            {rows.flatMap((row, y) =>
              [...row].map((cell, x) =>
                cell === "1" ? <rect key={`${x}-${y}`} x={x + margin} y={y + margin} width="1" height="1" /> : null,
              ),
            )}
          </svg>
        </details>
      )}
    </>
  );
}

function Mounts({ site }: { site: Site }) {
  const isAdding = useSignal(false);
  const path = useSignal("/");
  const folder = useSignal("");
  const isBrowsing = useSignal(false);
  return (
    <>
      {site.mounts.map((mount) => (
        <div key={mount.path} class="mount">
          <code>{mount.path}</code> shows <Path path={mount.target} />{" "}
          <Question
            ask={`${mount.path} of ${site.name} will lead nowhere. ${mount.target} stays as it is.`}
            yes={`Take ${mount.path} away`}
            run={() =>
              call(`/v1/mounts?site=${encodeURIComponent(site.name)}&path=${encodeURIComponent(mount.path)}`, {
                method: "DELETE",
              })
            }
          >
            Remove
          </Question>
        </div>
      ))}
      {isAdding.value ? (
        <fieldset>
          <legend>Add a mount to {site.name}</legend>
          <p class="tools">
            <label>
              Path{" "}
              <input
                type="text"
                value={path.value}
                onInput={(event) => {
                  path.value = event.currentTarget.value;
                }}
              />
            </label>
            <label class="grow">
              Folder or script{" "}
              <input
                type="text"
                value={folder.value}
                onInput={(event) => {
                  folder.value = event.currentTarget.value;
                }}
              />
            </label>
            <button
              type="button"
              onClick={() => {
                isBrowsing.value = !isBrowsing.value;
              }}
            >
              Browse
            </button>
          </p>
          {isBrowsing.value && (
            <FolderBrowser
              start={folder.value || site.folder}
              choose={(chosen) => {
                folder.value = chosen;
                isBrowsing.value = false;
              }}
            />
          )}
          <Action
            run={async () => {
              await post("/v1/mounts", { site: site.name, path: path.value, target: folder.value });
              isAdding.value = false;
            }}
            working="Adding…"
            kind="strong"
          >
            Show it at {site.url.replace(/\/$/, "")}
            {path.value}
          </Action>{" "}
          <button
            type="button"
            class="quiet"
            onClick={() => {
              isAdding.value = false;
            }}
          >
            Cancel
          </button>
        </fieldset>
      ) : (
        <button
          type="button"
          class="quiet"
          onClick={() => {
            isAdding.value = true;
          }}
        >
          Add a mount
        </button>
      )}
    </>
  );
}

const isForRoot = (site: Site): boolean => site.hosts.includes("localhost");

function SiteView({ site, rows, isFirst }: { site: Site; rows: ExchangeRow[]; isFirst: boolean }) {
  const isSettled = (status.value?.settings ?? "") !== "";
  const own = findings.value.filter((finding) => finding.site === site.name);
  const wrong = [...rows].reverse().find((row) => row.status >= 500);
  const names = site.hosts.filter((host) => !site.url.includes(`//${host}:`) && host !== "localhost");
  return (
    <section class="site" aria-labelledby={`site-${site.name}`}>
      <h2 id={`site-${site.name}`}>
        {site.name}
        {(isForRoot(site) || isFirst) && <span class="note"> answers to localhost</span>}
      </h2>
      <dl class="facts">
        <div>
          <dt>Address</dt>
          <dd>
            <a href={site.url} target="_blank" rel="noreferrer">
              {site.url}
            </a>{" "}
            <Copy text={site.url} />
            {names.length > 0 && <span class="dimmed"> also {names.join(", ")}</span>}
          </dd>
        </div>
        <div>
          <dt>Folder</dt>
          <dd>
            <Path path={site.folder} most={64} /> <Copy text={site.folder} />{" "}
            {status.value?.has_desktop && (
              <Action
                run={() => post(`/v1/sites/${encodeURIComponent(site.name)}/folder`)}
                working="Opening…"
                kind="quiet"
              >
                Open
              </Action>
            )}
          </dd>
        </div>
        <div>
          <dt>Languages</dt>
          <dd>{site.languages ? site.languages.join(", ") : "all that are installed"}</dd>
        </div>
        <div>
          <dt>Responses</dt>
          <dd>
            <LastResponses rows={rows} />
          </dd>
        </div>
        <div>
          <dt>Requests</dt>
          <dd>
            <Line rows={rows} />
          </dd>
        </div>
        <div>
          <dt>Other devices</dt>
          <dd>
            <OtherDevices site={site} />
          </dd>
        </div>
        {(site.mounts.length > 0 || isSettled) && (
          <div>
            <dt>Mounts</dt>
            <dd>{isSettled ? <Mounts site={site} /> : "none"}</dd>
          </div>
        )}
      </dl>
      {own.map((finding) => (
        <FindingView key={finding.sentence} finding={finding} />
      ))}
      {wrong && (
        <p>
          <span class="wrong">▲</span> The last that failed:{" "}
          <a href={to("exchanges", `${wrong.number}`)}>
            {wrong.method} {wrong.target}, {wrong.status}
          </a>
          , {ago(Date.parse(wrong.time), now.value)}.
        </p>
      )}
      <p class="tools">
        <a href={to("rehearse", site.name)}>Rehearse a script</a>
        <a href={to("exchanges", "", { f: `site:${site.name}` })}>Its exchanges</a>
        {isSettled && !isForRoot(site) && !isFirst && (
          <Action
            run={() =>
              call(`/v1/sites/${encodeURIComponent(site.name)}`, { method: "PATCH", body: { root_of: "localhost" } })
            }
            working="Changing…"
            kind="quiet"
          >
            Let it answer to localhost
          </Action>
        )}
        {isSettled && (
          <Question
            ask={`The site ${site.name} will not be answered any more, and its part of the settings goes. The folder ${site.folder} stays as it is.`}
            yes={`Remove ${site.name}`}
            run={() => call(`/v1/sites/${encodeURIComponent(site.name)}`, { method: "DELETE" })}
          >
            Remove
          </Question>
        )}
      </p>
    </section>
  );
}

const stateMark = (findingsOfSite: Finding[]) => {
  const state = status.value?.state ?? "running";
  if (findingsOfSite.length > 0) return { mark: "▲", tone: "wrong", told: "something is wrong" };
  if (state === "paused") return { mark: "○", tone: "notice", told: "paused" };
  if (state === "stopping") return { mark: "◐", tone: "notice", told: "stopping" };
  return { mark: "●", tone: "good", told: "answering" };
};

/** A row of the table, and the whole of the site below it where it is open. */
function SiteRow({
  site,
  rows,
  isFirst,
  isOpen,
}: {
  site: Site;
  rows: ExchangeRow[];
  isFirst: boolean;
  isOpen: boolean;
}) {
  const own = findings.value.filter((finding) => finding.site === site.name);
  const state = stateMark(own);
  const since = now.value - minutes * 60_000;
  const lately = rows.filter((row) => Date.parse(row.time) >= since).length;
  return (
    <>
      <tr aria-current={isOpen ? "true" : undefined}>
        <td class={state.tone} title={state.told}>
          <span aria-hidden="true">{state.mark}</span>
          <span class="unseen">{state.told}</span>
        </td>
        <th scope="row">
          <a href={isOpen ? to("sites", "none") : to("sites", site.name)} aria-expanded={isOpen}>
            {site.name}
          </a>
        </th>
        <td class="url">
          <a href={site.url} target="_blank" rel="noreferrer">
            {site.url}
          </a>
        </td>
        <td class="folder">
          <Path path={site.folder} most={36} />
        </td>
        <td>
          <Marks rows={rows} most={8} />
        </td>
        <td class="number" title={`In the last ${minutes} min`}>
          {lately}
        </td>
        <td class={own.length > 0 ? "number wrong" : "number"}>{own.length > 0 ? `▲ ${own.length}` : "none"}</td>
      </tr>
      {isOpen && (
        <tr class="opened">
          <td colSpan={7}>
            <SiteView site={site} rows={rows} isFirst={isFirst} />
          </td>
        </tr>
      )}
    </>
  );
}

function AddSite({ isFirst }: { isFirst: boolean }) {
  const isOpen = useSignal(isFirst);
  const name = useSignal("");
  const folder = useSignal("");
  const answersRoot = useSignal(isFirst);
  const isBrowsing = useSignal(false);
  const problem = useSignal<unknown>(null);
  const said = useSignal("");
  const port = status.value?.addresses[0]?.port ?? 8080;
  const host = name.value.toLowerCase();
  const nameIsWrong = name.value !== "" && !/^[a-z0-9]([a-z0-9-]*[a-z0-9])?$/i.test(name.value);
  const isTaken = sites.value.some((site) => site.name === name.value);
  const suggest = (path: string) => {
    folder.value = path;
    const last = path.slice(path.lastIndexOf("/") + 1);
    const usable = last
      .toLowerCase()
      .replace(/[^a-z0-9-]+/g, "-")
      .replace(/^-+|-+$/g, "");
    if (name.value === "") name.value = usable;
  };
  const add = async () => {
    problem.value = null;
    try {
      const body: Record<string, string> = { name: name.value, folder: folder.value };
      if (answersRoot.value) body.root_of = "localhost";
      await post("/v1/sites", body);
      await refreshStatus();
      said.value = `${name.value} is served.`;
      name.value = folder.value = "";
      isOpen.value = false;
    } catch (what) {
      problem.value = what;
    }
  };
  if (!isOpen.value)
    return (
      <p>
        <button
          type="button"
          onClick={() => {
            isOpen.value = true;
            said.value = "";
          }}
        >
          Add a site
        </button>{" "}
        {said.value && (
          <span class="good" role="status">
            {said.value}
          </span>
        )}
      </p>
    );
  return (
    <form
      class="add"
      onSubmit={(event) => {
        event.preventDefault();
        void add();
      }}
    >
      <h2>{isFirst ? "Add the first site" : "Add a site"}</h2>
      <p class="tools">
        <label class="grow">
          Folder{" "}
          <input
            type="text"
            name="folder"
            placeholder="/home/…/pages"
            spellcheck={false}
            value={folder.value}
            onInput={(event) => {
              folder.value = event.currentTarget.value;
            }}
          />
        </label>
        <button
          type="button"
          onClick={() => {
            isBrowsing.value = !isBrowsing.value;
          }}
        >
          {isBrowsing.value ? "Close the folder list" : "Browse"}
        </button>
      </p>
      {folder.value !== "" && !folder.value.startsWith("/") && (
        <p class="wrong">▲ Write the whole path, from the first slash on.</p>
      )}
      {isBrowsing.value && (
        <FolderBrowser
          start={folder.value}
          choose={(path) => {
            suggest(path);
            isBrowsing.value = false;
          }}
        />
      )}
      <p class="tools">
        <label>
          Name{" "}
          <input
            type="text"
            name="name"
            spellcheck={false}
            aria-invalid={nameIsWrong || isTaken}
            value={name.value}
            onInput={(event) => {
              name.value = event.currentTarget.value;
            }}
          />
        </label>
        <span role="status">
          {nameIsWrong ? (
            <span class="wrong">▲ A name has letters, digits and hyphens, since it becomes a host name.</span>
          ) : isTaken ? (
            <span class="wrong">▲ There is a site of this name.</span>
          ) : (
            name.value && (
              <span class="dimmed">
                It will be at{" "}
                <code>
                  http://{host}.localhost:{port}/
                </code>
                {answersRoot.value && (
                  <>
                    {" "}
                    and <code>http://localhost:{port}/</code>
                  </>
                )}
              </span>
            )
          )}
        </span>
      </p>
      <p>
        <label>
          <input
            type="checkbox"
            checked={answersRoot.value}
            onChange={(event) => {
              answersRoot.value = event.currentTarget.checked;
            }}
          />{" "}
          it also answers to plain localhost
        </label>
      </p>
      <Problem of={problem.value} />
      <p class="tools">
        <button
          type="submit"
          class="strong"
          disabled={nameIsWrong || isTaken || !name.value || !folder.value.startsWith("/")}
        >
          Add it
        </button>
        {!isFirst && (
          <button
            type="button"
            class="quiet"
            onClick={() => {
              isOpen.value = false;
            }}
          >
            Cancel
          </button>
        )}
      </p>
    </form>
  );
}

function TakenPort({ finding }: { finding: Finding }) {
  const port = takenPort(finding);
  return (
    <FindingView finding={finding}>
      {port > 0 && (status.value?.settings ?? "") !== "" && (
        <Action
          run={() => takeNextPort(port)}
          working="Looking for a free port…"
          done="Moved to another port."
          kind="strong"
        >
          Take the next free port
        </Action>
      )}
    </FindingView>
  );
}

function Autostart() {
  const count = useSignal(0);
  const { value, problem } = useCall<{ starts_at_login?: boolean }>(
    (signal) => call("/v1/autostart", { signal }),
    [count.value],
  );
  if (problem.value) return <span class="dimmed">Start at login is not available here.</span>;
  if (!value.value) return null;
  const isOn = value.value.starts_at_login === true;
  const change = async () => {
    await call("/v1/autostart", { method: "PUT", body: { on: !isOn } });
    count.value += 1;
  };
  return (
    <>
      {isOn ? "It starts at login." : "It does not start at login."}{" "}
      <Action run={change} working="Changing…" kind="quiet">
        {isOn ? "Do not start it at login" : "Start it at login"}
      </Action>
    </>
  );
}

function ServerPart() {
  const state = status.value;
  if (!state) return null;
  const isSettled = state.settings !== "";
  return (
    <section class="site" aria-labelledby="the-server">
      <h2 id="the-server">The server</h2>
      <dl class="facts">
        <div>
          <dt>Process</dt>
          <dd>
            {state.process}, version {state.version}
          </dd>
        </div>
        <div>
          <dt>{isSettled ? "Settings" : "Folder"}</dt>
          <dd>
            <Path path={isSettled ? state.settings : state.folder} most={64} />{" "}
            <Copy text={isSettled ? state.settings : state.folder} />
          </dd>
        </div>
        <div>
          <dt>Scripts</dt>
          <dd>
            {state.runs.running} of {state.runs.most} at once
            {state.runs.waiting > 0 && `, ${state.runs.waiting} waiting`}
          </dd>
        </div>
        {isSettled && (
          <div>
            <dt>At login</dt>
            <dd>
              <Autostart />
            </dd>
          </div>
        )}
      </dl>
      <p class="tools">
        {isSettled && (
          <Action run={() => post("/v1/reload")} working="Reading…" done="Read and applied.">
            Read the settings again
          </Action>
        )}
        <Question
          ask="The server ends and begins anew. Requests in progress get a moment to finish; this page comes back by itself."
          yes="Restart it"
          run={() => post("/v1/restart")}
        >
          Restart
        </Question>
        <Question
          ask="The server ends, and this page with it. It is started again in a terminal: uporter start"
          yes="Stop it"
          run={() => post("/v1/stop")}
        >
          Stop
        </Question>
      </p>
    </section>
  );
}

export function SitesView() {
  const all = exchanges.value;
  const bySite = useMemo(() => {
    const out = new Map<string, ExchangeRow[]>();
    for (const row of all) {
      const rows = out.get(row.site ?? "");
      if (rows) rows.push(row);
      else out.set(row.site ?? "", [row]);
    }
    return out;
  }, [all]);
  const state = status.value;
  if (!state) return null;
  const isSettled = state.settings !== "";
  const taken = findings.value.filter((finding) => takenPort(finding) > 0);
  return (
    <div class="column">
      {taken.map((finding) => (
        <TakenPort key={finding.sentence} finding={finding} />
      ))}
      {sites.value.length === 0 && (
        <Empty title="There is no site yet.">
          <p>A site is a folder with pages and scripts, and the name by which the browser finds it.</p>
        </Empty>
      )}
      {sites.value.length > 0 && (
        <table class="wide sites">
          <thead>
            <tr>
              <th scope="col">
                <span class="unseen">State</span>
              </th>
              <th scope="col">Site</th>
              <th scope="col">URL</th>
              <th scope="col">Folder</th>
              <th scope="col">Last responses</th>
              <th scope="col" class="number">
                Requests
              </th>
              <th scope="col" class="number">
                Findings
              </th>
            </tr>
          </thead>
          <tbody>
            {sites.value.map((site, i) => (
              <SiteRow
                key={site.name}
                site={site}
                rows={bySite.get(site.name) ?? []}
                isFirst={i === 0 && !sites.value.some(isForRoot)}
                isOpen={place.value.what === site.name || (place.value.what === "" && sites.value.length === 1)}
              />
            ))}
          </tbody>
        </table>
      )}
      {isSettled && <AddSite key={sites.value.length === 0 ? "first" : "more"} isFirst={sites.value.length === 0} />}
      <ServerPart />
    </div>
  );
}
