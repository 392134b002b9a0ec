// Small things that many views show.
import { type Signal, useSignal } from "@preact/signals";
import type { ComponentChildren } from "preact";
import { useEffect, useRef } from "preact/hooks";
import { type Finding, findingsOf } from "../api";
import { meaning, shortened, tone } from "../format";

export function StatusMark({ status, inProgress = false }: { status: number; inProgress?: boolean }) {
  if (inProgress) return <span class="status dimmed">◐ in progress</span>;
  return (
    <span class={`status ${tone(status)}`}>
      <b>{status || "–"}</b> <span class="meaning">{meaning(status)}</span>
    </span>
  );
}

/** Copies `text` exactly, and says so where it was clicked. */
export function Copy({
  text,
  children = "Copy",
  title,
}: {
  text: string;
  children?: ComponentChildren;
  title?: string;
}) {
  const said = useSignal("");
  const timer = useRef<ReturnType<typeof setTimeout> | undefined>(undefined);
  useEffect(() => () => clearTimeout(timer.current), []);
  const copy = async () => {
    try {
      await navigator.clipboard.writeText(text);
      said.value = "Copied";
    } catch {
      said.value = "Not allowed here; select it by hand";
    }
    clearTimeout(timer.current);
    timer.current = setTimeout(() => {
      said.value = "";
    }, 1500);
  };
  return (
    <button type="button" class="quiet" onClick={copy} title={title ?? text}>
      <span aria-live="polite">{said.value || children}</span>
    </button>
  );
}

/** A path, its middle left out where it is long, shown whole on focus. */
export function Path({ path, most = 48 }: { path: string; most?: number }) {
  return (
    <code class="path" title={path}>
      {shortened(path, most)}
    </code>
  );
}

export function FindingView({
  finding,
  children,
  isToldAbove = false,
}: {
  finding: Finding;
  children?: ComponentChildren;
  /** The sentence stands there already: only what to do is shown. */
  isToldAbove?: boolean;
}) {
  const command = finding.command ?? "";
  return (
    <div class="finding">
      {!isToldAbove && (
        <p class="sentence">
          <span class="wrong" aria-hidden="true">
            ▲
          </span>{" "}
          {finding.sentence}
          {finding.line !== undefined && (
            <span class="dimmed">
              {" "}
              ({finding.file ? `${finding.file}, ` : ""}line {finding.line})
            </span>
          )}
        </p>
      )}
      <p class="remedy">{command ? finding.remedy.slice(0, finding.remedy.length - command.length) : finding.remedy}</p>
      {command && (
        <p class="command">
          <code>{command}</code> <Copy text={command} />
        </p>
      )}
      {children}
    </div>
  );
}

export function Findings({ all }: { all: Finding[] }) {
  return (
    <>
      {all.map((finding) => (
        <FindingView key={`${finding.code} ${finding.sentence}`} finding={finding} />
      ))}
    </>
  );
}

/** A problem of a call, where the hand is. */
export function Problem({ of }: { of: unknown }) {
  if (of === null || of === undefined) return null;
  return (
    <div role="alert">
      <Findings all={findingsOf(of)} />
    </div>
  );
}

/** A button whose work takes a moment: it shows that it works, and what came of it where it stands. */
export function Action({
  run,
  children,
  working,
  done,
  kind = "",
  disabled = false,
}: {
  run: () => Promise<unknown>;
  children: ComponentChildren;
  working: string;
  done?: string;
  kind?: string;
  disabled?: boolean;
}) {
  const state = useSignal<"" | "working" | "done">("");
  const problem = useSignal<unknown>(null);
  const click = async () => {
    state.value = "working";
    problem.value = null;
    try {
      await run();
      state.value = "done";
    } catch (what) {
      problem.value = what;
      state.value = "";
    }
  };
  return (
    <span class="action">
      <button type="button" class={kind} onClick={click} disabled={disabled || state.value === "working"}>
        {state.value === "working" ? working : children}
      </button>
      {state.value === "done" && done && (
        <span class="good said" role="status">
          {done}
        </span>
      )}
      <Problem of={problem.value} />
    </span>
  );
}

/** Asks before what cannot be taken back, in words that say what will happen. */
export function Question({
  ask,
  yes,
  children,
  run,
}: {
  ask: string;
  yes: string;
  children: ComponentChildren;
  run: () => Promise<unknown>;
}) {
  const isAsking = useSignal(false);
  if (!isAsking.value)
    return (
      <button
        type="button"
        class="quiet"
        onClick={() => {
          isAsking.value = true;
        }}
      >
        {children}
      </button>
    );
  return (
    <fieldset class="question">
      <legend>{ask}</legend>
      <Action
        run={async () => {
          await run();
          isAsking.value = false;
        }}
        working="Working…"
        kind="strong"
      >
        {yes}
      </Action>{" "}
      <button
        type="button"
        class="quiet"
        onClick={() => {
          isAsking.value = false;
        }}
      >
        Cancel
      </button>
    </fieldset>
  );
}

export function Empty({ title, children }: { title: string; children?: ComponentChildren }) {
  return (
    <div class="empty">
      <p>
        <b>{title}</b>
      </p>
      {children}
    </div>
  );
}

/** One of several ways of looking at the same thing; which, stands in the address. */
export function Tabs({
  label,
  names,
  chosen,
  choose,
}: {
  label: string;
  names: Record<string, string>;
  chosen: string;
  choose: (name: string) => void;
}) {
  const keys = Object.keys(names);
  const move = (event: KeyboardEvent) => {
    const step = event.key === "ArrowRight" ? 1 : event.key === "ArrowLeft" ? -1 : 0;
    if (step === 0) return;
    event.preventDefault();
    const next = keys[(keys.indexOf(chosen) + step + keys.length) % keys.length] as string;
    choose(next);
    const list = event.currentTarget as HTMLElement;
    requestAnimationFrame(() => list.querySelector<HTMLElement>("[aria-selected=true]")?.focus());
  };
  return (
    <div class="tabs" role="tablist" aria-label={label} onKeyDown={move}>
      {keys.map((name) => (
        <button
          type="button"
          key={name}
          role="tab"
          aria-selected={name === chosen}
          tabIndex={name === chosen ? 0 : -1}
          onClick={() => choose(name)}
        >
          {names[name]}
        </button>
      ))}
    </div>
  );
}

/** Text of any length, which the keyboard scrolls too. */
export function Scrolled({ kind, children }: { kind: string; children: ComponentChildren }) {
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: nothing else would scroll it without a mouse
    <pre class={kind} tabIndex={0}>
      {children}
    </pre>
  );
}

/** A field for a part of a name. */
export function FindField({ words }: { words: Signal<string> }) {
  return (
    <p>
      <label>
        Find{" "}
        <input
          type="search"
          value={words.value}
          onInput={(event) => {
            words.value = event.currentTarget.value;
          }}
        />
      </label>
    </p>
  );
}

/** A list of names and values, aligned. */
export function Facts({ rows }: { rows: [string, ComponentChildren][] }) {
  return (
    <dl class="facts">
      {rows.map(([name, value]) => (
        <div key={name}>
          <dt>{name}</dt>
          <dd>{value}</dd>
        </div>
      ))}
    </dl>
  );
}

/** What comes of a call, again whenever `of` changes; the one before is given up. */
export function useCall<T>(make: (signal: AbortSignal) => Promise<T>, of: unknown[]) {
  const value = useSignal<T | null>(null);
  const problem = useSignal<unknown>(null);
  const isWaiting = useSignal(true);
  useEffect(() => {
    const abort = new AbortController();
    isWaiting.value = true;
    problem.value = null;
    make(abort.signal).then(
      (made) => {
        if (abort.signal.aborted) return;
        value.value = made;
        isWaiting.value = false;
      },
      (what) => {
        if (abort.signal.aborted) return;
        problem.value = what;
        value.value = null;
        isWaiting.value = false;
      },
    );
    return () => abort.abort();
  }, of);
  return { value, problem, isWaiting };
}
