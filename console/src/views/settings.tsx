// The settings file, checked while one types; what will change is told before it is applied.
import { useSignal } from "@preact/signals";
import { useEffect, useRef } from "preact/hooks";
import { call, post, Refused, type SettingsCheck, type SettingsText } from "../api";
import { Action, Empty, FindingView, Path, Problem } from "../parts/basics";
import { Code } from "../parts/code";
import { settingsApplied, status } from "../store";

const checkAfter = 250;
/** What is being written survives going to another view. */
const draft = { text: "", version: "", base: "" };

export function SettingsView() {
  const isSettled = (status.value?.settings ?? "") !== "";
  const disk = useSignal<SettingsText | null>(null);
  const text = useSignal(draft.text);
  const check = useSignal<SettingsCheck | null>(null);
  const problem = useSignal<unknown>(null);
  const isElsewhere = useSignal(false);
  const said = useSignal("");
  const timer = useRef<ReturnType<typeof setTimeout> | undefined>(undefined);

  const takeFromDisk = (fresh: SettingsText) => {
    disk.value = fresh;
    draft.version = fresh.version;
    draft.base = draft.text = text.value = fresh.text;
    isElsewhere.value = false;
    problem.value = null;
  };
  const look = async (signal?: AbortSignal) => {
    const fresh = await call<SettingsText>("/v1/settings", signal ? { signal } : {});
    const isTouched = draft.version !== "" && draft.text !== draft.base;
    disk.value = fresh;
    if (!isTouched) takeFromDisk(fresh);
    else isElsewhere.value = fresh.version !== draft.version;
  };
  // A save by another program shows itself as settings applied or refused; a return to this page looks as well.
  useEffect(() => {
    if (!isSettled) return;
    const abort = new AbortController();
    look(abort.signal).catch((what) => {
      if (!abort.signal.aborted) problem.value = what;
    });
    const focused = () => void look().catch(() => {});
    addEventListener("focus", focused);
    return () => {
      abort.abort();
      removeEventListener("focus", focused);
    };
  }, [isSettled, settingsApplied.value]);

  useEffect(() => {
    if (!isSettled || disk.value === null) return;
    const abort = new AbortController();
    timer.current = setTimeout(() => {
      post<SettingsCheck>("/v1/settings/check", { text: text.value }, abort.signal).then(
        (fresh) => {
          check.value = fresh;
        },
        (what) => {
          if (!abort.signal.aborted) problem.value = what;
        },
      );
    }, checkAfter);
    return () => {
      clearTimeout(timer.current);
      abort.abort();
    };
  }, [text.value, disk.value, settingsApplied.value]);

  if (!isSettled)
    return (
      <Empty title="This server shows one folder, and goes by no settings.">
        <p>To have several sites, and settings that stay, add the folder to settings and have those served:</p>
        <p class="command">
          <code>uporter site add NAME FOLDER &amp;&amp; uporter start</code>
        </p>
      </Empty>
    );
  if (!disk.value) return <Problem of={problem.value} />;
  const isTouched = text.value !== draft.base;
  const found = check.value?.findings ?? [];
  const apply = async () => {
    said.value = "";
    problem.value = null;
    try {
      const done = await call<{ version: string }>("/v1/settings", {
        method: "PUT",
        body: { text: text.value, version: draft.version },
      });
      draft.version = done.version;
      draft.base = text.value;
      disk.value = { ...(disk.value as SettingsText), text: text.value, version: done.version, exists: true };
      said.value = "Applied.";
    } catch (what) {
      if (what instanceof Refused && what.findings.some((one) => one.code === "settings-changed-meanwhile"))
        isElsewhere.value = true;
      problem.value = what;
    }
  };
  return (
    <div class="fill settings">
      <div class="tools">
        <Path path={disk.value.file} most={60} />
        {!disk.value.exists && <span class="dimmed">does not exist yet; it is made when something is applied</span>}
        <span class="grow" />
        <Action run={apply} working="Applying…" kind="strong" disabled={!isTouched || check.value?.valid === false}>
          Apply
        </Action>
        <button
          type="button"
          disabled={!isTouched}
          onClick={() => {
            draft.text = text.value = draft.base;
            said.value = "";
            problem.value = null;
          }}
        >
          Discard
        </button>
        {said.value && !isTouched && (
          <span class="good" role="status">
            {said.value}
          </span>
        )}
      </div>
      {isElsewhere.value && (
        <div class="finding" role="alert">
          <p>
            <span class="notice">▲</span> The file was saved by another program meanwhile. What you have written here is
            still here; nothing has been overwritten.
          </p>
          <p class="tools">
            <button type="button" onClick={() => takeFromDisk(disk.value as SettingsText)}>
              Take what is on disk
            </button>
            <button
              type="button"
              onClick={() => {
                draft.version = (disk.value as SettingsText).version;
                isElsewhere.value = false;
                problem.value = null;
              }}
            >
              Overwrite
            </button>
          </p>
        </div>
      )}
      <Problem of={problem.value} />
      <div class="two">
        <Code
          label="Settings"
          kind="uporter.toml"
          text={text.value}
          marks={found
            .filter((finding) => finding.line !== undefined)
            .map((finding) => ({
              line: finding.line as number,
              column: finding.column ?? 1,
              text: `${finding.sentence} ${finding.remedy}`,
            }))}
          change={(now) => {
            draft.text = text.value = now;
            said.value = "";
          }}
          save={() => {
            if (isTouched && check.value?.valid !== false) void apply();
          }}
        />
        <section class="side" aria-label="What applying it means" aria-live="polite">
          {found.length > 0 && (
            <>
              <h2>{check.value?.valid ? "Warnings" : "It cannot be applied yet"}</h2>
              {found.map((finding) => (
                <FindingView key={`${finding.line}:${finding.column} ${finding.code}`} finding={finding} />
              ))}
            </>
          )}
          {check.value?.valid && (
            <>
              <h2>{check.value.changes.length > 0 ? "What will change" : "Nothing would change"}</h2>
              {check.value.changes.length > 0 ? (
                <ul>
                  {check.value.changes.map((change) => (
                    <li key={change}>{change}</li>
                  ))}
                </ul>
              ) : (
                <p class="dimmed">This is what is served now. Change the text, and what it means is told here.</p>
              )}
            </>
          )}
        </section>
      </div>
    </div>
  );
}
