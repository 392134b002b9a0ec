// What an address leads to, or under which addresses a file is found, as a path with the point where it leaves the road.
import { useSignal } from "@preact/signals";
import { useEffect } from "preact/hooks";
import { type Explanation, post } from "../api";
import { bind } from "../keys";
import { Copy, Empty, FindingView, Problem, useCall } from "../parts/basics";
import { place, to, withOptions } from "../router";
import { settingsApplied, sites, status } from "../store";

export function Path({ steps, end, isFine }: { steps: string[]; end: string; isFine: boolean }) {
  const shown = steps.map((step, at) => ({ step, key: `${at} ${step}` }));
  return (
    <ol class="way">
      {shown.map(({ step, key }, i) => (
        <li key={key} class={!isFine && i === shown.length - 1 ? "off" : ""}>
          {step}
        </li>
      ))}
      <li class={isFine ? "end good" : "end wrong"}>
        <span aria-hidden="true">{isFine ? "● " : "▲ "}</span>
        {end}
      </li>
    </ol>
  );
}

function Response({ what }: { what: string }) {
  const folder = sites.value[0]?.folder ?? "/";
  const { value, problem, isWaiting } = useCall<Explanation>(
    (signal) => post("/v1/explain", { what, folder }, signal),
    [what, settingsApplied.value],
  );
  if (problem.value) return <Problem of={problem.value} />;
  const told = value.value;
  if (!told) return <p class="dimmed">{isWaiting.value ? "Looking…" : ""}</p>;
  return (
    <section aria-label="Explanation">
      <Path
        steps={told.trail}
        end={told.outcome || told.findings[0]?.sentence || "Nothing comes of it."}
        isFine={told.findings.length === 0}
      />
      {told.findings.map((finding, i) => (
        <FindingView key={finding.sentence} finding={finding} isToldAbove={i === 0 && !told.outcome} />
      ))}
      {told.urls.length > 0 && (
        <>
          <h3>Under these addresses</h3>
          <ul class="plain">
            {told.urls.map((url) => (
              <li key={url}>
                <a href={url} target="_blank" rel="noreferrer">
                  {url}
                </a>{" "}
                <Copy text={url} />
              </li>
            ))}
          </ul>
        </>
      )}
    </section>
  );
}

export function ExplainView() {
  const what = place.value.options.get("what") ?? "";
  const typed = useSignal(what);
  useEffect(() => {
    typed.value = what;
  }, [what]);
  useEffect(() => bind(["/"], "Type an address", () => document.getElementById("explain-what")?.focus()), []);
  const examples = sites.value.slice(0, 3).map((site) => site.url);
  return (
    <div class="column">
      <form
        class="tools"
        onSubmit={(event) => {
          event.preventDefault();
          withOptions({ what: typed.value.trim() });
        }}
      >
        <label class="grow">
          Address or file{" "}
          <input
            id="explain-what"
            type="text"
            spellcheck={false}
            autocomplete="off"
            placeholder="http://…, localhost:8080/page, /home/…/page.php"
            value={typed.value}
            onInput={(event) => {
              typed.value = event.currentTarget.value;
            }}
          />
        </label>
        <button type="submit" class="strong">
          Explain
        </button>
      </form>
      {what ? (
        <Response what={what} />
      ) : (
        <Empty title="Where does an address lead, and why not where it should?">
          <p>
            Paste what the browser's address line shows, or the path of a file: the way from the address to the response
            is told step by step, without a request being made.
          </p>
          {status.value && examples.length > 0 && (
            <p>
              For example:{" "}
              {examples.map((url, i) => (
                <>
                  {i > 0 && ", "}
                  <a key={url} href={to("explain", "", { what: url })}>
                    {url}
                  </a>
                </>
              ))}
            </p>
          )}
        </Empty>
      )}
    </div>
  );
}
