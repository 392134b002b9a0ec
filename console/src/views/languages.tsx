// What runs scripts, and what each interpreter says of itself.
import { useSignal } from "@preact/signals";
import { ask, call, type Language, type LanguageFacts } from "../api";
import { Copy, Empty, Facts, FindField, Path, Problem, useCall } from "../parts/basics";
import { Preview } from "../parts/preview";
import { Split } from "../parts/split";
import { go, place, to } from "../router";
import { settingsApplied } from "../store";

function InformationPage({ name }: { name: string }) {
  const { value, problem } = useCall<string>(
    async (signal) => await (await ask(`/v1/languages/${encodeURIComponent(name)}/page`, { signal })).text(),
    [name],
  );
  if (problem.value) return <Problem of={problem.value} />;
  if (value.value === null) return <p class="dimmed">Asking {name}…</p>;
  return <Preview html={value.value} label={`What ${name} says of itself`} />;
}

function Detail({ name }: { name: string }) {
  const isPageShown = useSignal(false);
  const words = useSignal("");
  const { value, problem } = useCall<LanguageFacts>(
    (signal) => call(`/v1/languages/${encodeURIComponent(name)}`, { signal }),
    [name, settingsApplied.value],
  );
  const facts = value.value;
  if (problem.value) return <Problem of={problem.value} />;
  if (!facts) return <p class="dimmed">Asking {name} itself…</p>;
  const modules = (facts.modules ?? []).filter((one) => one.name.toLowerCase().includes(words.value.toLowerCase()));
  return (
    <>
      <h2>
        {facts.language} {facts.version}
      </h2>
      <Facts
        rows={[
          ["Program", <Path key="p" path={facts.path} />],
          ["Processes", facts.persistent ? "kept for one request after another" : "one for each request"],
          ["Endings", facts.endings],
          ["Runs in", facts.anywhere ? "any folder of a site" : "script folders"],
          ...(facts.values ?? []).map((one): [string, string] => [one.name, one.value || "(empty)"]),
        ]}
      />
      {name === "PHP" && (
        <p>
          <button
            type="button"
            onClick={() => {
              isPageShown.value = !isPageShown.value;
            }}
          >
            {isPageShown.value ? "Hide its information page" : "Show its information page"}
          </button>
        </p>
      )}
      {isPageShown.value && <InformationPage name={name} />}
      {facts.search_paths && facts.search_paths.length > 0 && (
        <>
          <h3>Where it looks for modules</h3>
          <ol class="plain">
            {facts.search_paths.map((path) => (
              <li key={path}>
                <Path path={path} most={70} />
              </li>
            ))}
          </ol>
        </>
      )}
      {facts.modules && facts.modules.length > 0 && (
        <>
          <h3>{facts.modules.length} modules</h3>
          <FindField words={words} />
          <ul class="plain many">
            {modules.slice(0, 400).map((one) => (
              <li key={one.name}>
                {one.name} <span class="dimmed">{one.version}</span>
              </li>
            ))}
          </ul>
          {modules.length > 400 && <p class="dimmed">and {modules.length - 400} more; type a part of the name above</p>}
        </>
      )}
    </>
  );
}

export function LanguagesView() {
  const { value, problem } = useCall<{ languages: Language[] }>(
    (signal) => call("/v1/languages", { signal }),
    [settingsApplied.value],
  );
  const chosen = place.value.what;
  const all = value.value?.languages ?? [];
  const isThere = all.some((one) => one.language === chosen && one.path && !one.site);
  return (
    <Split
      label={`About ${chosen}`}
      close={() => go(to("languages"))}
      detail={isThere ? <Detail key={chosen} name={chosen} /> : null}
    >
      <div class="column">
        <Problem of={problem.value} />
        {value.value && all.length === 0 && <Empty title="The interpreters are being asked." />}
        <table class="wide">
          <caption class="unseen">Languages</caption>
          <thead>
            <tr>
              <th scope="col">Language</th>
              <th scope="col">Version</th>
              <th scope="col">Endings</th>
              <th scope="col">Program</th>
            </tr>
          </thead>
          <tbody>
            {all.map((one) => (
              <tr
                key={`${one.language}/${one.site}`}
                aria-current={one.language === chosen && !one.site ? "true" : undefined}
              >
                <th scope="row">
                  {one.path && !one.site ? <a href={to("languages", one.language)}>{one.language}</a> : one.language}
                  {one.site && <span class="dimmed"> for {one.site}</span>}
                </th>
                <td>{one.version || (one.path ? "–" : "")}</td>
                <td>{one.endings}</td>
                <td>
                  {one.path ? (
                    <Path path={one.path} />
                  ) : (
                    <>
                      <span class="dimmed">not installed{one.install ? ": " : ""}</span>
                      {one.install && (
                        <>
                          <code>{one.install}</code> <Copy text={one.install} />
                        </>
                      )}
                    </>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        <p class="dimmed">
          In a script folder a file's own first line (#!) comes before its ending, and compiled programs run as they
          are.
        </p>
      </div>
    </Split>
  );
}
