// Parts of one exchange: fields, timing, runs.
import { useSignal } from "@preact/signals";
import type { Exchange, ExchangeRun, Wire } from "../api";
import { duration, shellWord, size } from "../format";
import { fieldMeanings } from "../standards";
import { Copy, Facts, FindField, Path, Scrolled } from "./basics";

/** Fields, aligned, each with what it means. */
export function Fields({ wire, label }: { wire: Wire; label: string }) {
  return (
    <table class="fields" aria-label={label}>
      <tbody>
        {wire.fields.map((field, i) => {
          const told = fieldMeanings[field.name.toLowerCase()] ?? "";
          return (
            <tr key={i}>
              <th scope="row">
                {told ? (
                  <button type="button" class="term" title={told} aria-label={`${field.name}: ${told}`}>
                    {field.name}
                    <span class="told" aria-hidden="true">
                      {told}
                    </span>
                  </button>
                ) : (
                  field.name
                )}
              </th>
              <td>
                <code>{field.value}</code>
              </td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}

interface Part {
  name: string;
  milliseconds: number;
  kind: string;
}

/** What the time went into, as a bar. */
export function TimingBar({ exchange }: { exchange: Exchange }) {
  const { head, queue, start, first_byte, all } = exchange.timing;
  const parts: Part[] = [
    { name: "its head", milliseconds: head, kind: "head" },
    { name: "the queue", milliseconds: queue, kind: "queue" },
    { name: "the process", milliseconds: start, kind: "start" },
    { name: "the first byte", milliseconds: Math.max(0, first_byte - queue - start), kind: "first" },
    { name: "the rest", milliseconds: Math.max(0, all - first_byte), kind: "rest" },
  ].filter((part) => part.milliseconds > 0.0005);
  const whole = parts.reduce((sum, part) => sum + part.milliseconds, 0) || 1;
  return (
    <div class="timing">
      <div class="bar-of-time" aria-hidden="true">
        {parts.map((part) => (
          <span
            key={part.kind}
            class={`part ${part.kind}`}
            style={{ width: `${(part.milliseconds / whole) * 100}%` }}
          />
        ))}
      </div>
      <ul class="legend" aria-label="What the time went into">
        {parts.map((part) => (
          <li key={part.kind}>
            <span class={`swatch ${part.kind}`} aria-hidden="true" /> {part.name} {duration(part.milliseconds)}
          </li>
        ))}
      </ul>
    </div>
  );
}

function howItEnded(run: ExchangeRun): string {
  if (run.signal !== undefined) return `ended by signal ${run.signal}`;
  if (run.exit_status !== undefined) return `exit status ${run.exit_status}`;
  // What is kept goes on in any case, and mostly says nothing of how a run ended.
  return run.way === "fresh" ? "has not ended" : "its response was whole";
}

/** Who ran it, where that was no process of its own. */
function whoRan(run: ExchangeRun): [string, string][] {
  if (run.way === "persistent")
    return [["Pooled process", `${run.process ?? "unknown"}, its run ${run.run_of_process ?? ""}`]];
  return run.way === "external" ? [["External server", run.external ?? ""]] : [];
}

export function RunView({ run }: { run: ExchangeRun }) {
  const words = useSignal("");
  const shown = run.environment.filter((one) => one.toLowerCase().includes(words.value.toLowerCase()));
  return (
    <section class="run" aria-label="A run">
      <Facts
        rows={[
          ["Script", <Path key="s" path={run.script} most={60} />],
          [
            "Command",
            <>
              <code>{run.command.map(shellWord).join(" ")}</code> <Copy text={run.command.map(shellWord).join(" ")} />
            </>,
          ],
          ["Folder", <Path key="f" path={run.folder} most={60} />],
          ["End", howItEnded(run)],
          ["Time", `${duration(run.milliseconds)}, of it ${duration(run.processor_milliseconds)} of a processor`],
          ...(run.peak_memory_kib > 0
            ? [["Memory", `${size(run.peak_memory_kib * 1024)} at most`] as [string, string]]
            : []),
          ...(run.waited_for
            ? [["Waited", `${duration(run.queue_milliseconds)} for ${run.waited_for}`] as [string, string]]
            : []),
          ...whoRan(run),
          ...(run.redirected_to ? [["Goes on at", run.redirected_to] as [string, string]] : []),
        ]}
      />
      {run.error_lines.length > 0 && (
        <>
          <h3>Error stream</h3>
          <Scrolled kind="error-stream">
            {run.error_lines.join("\n")}
            {run.more_error_lines > 0 && `\n(and ${run.more_error_lines} lines before)`}
          </Scrolled>
        </>
      )}
      <details>
        <summary>The {run.environment.length} variables that it was given</summary>
        <FindField words={words} />
        <table class="fields" aria-label="Environment">
          <tbody>
            {shown.map((one) => (
              <tr key={one}>
                <th scope="row">{one.slice(0, one.indexOf("="))}</th>
                <td>
                  <code>{one.slice(one.indexOf("=") + 1)}</code>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </details>
    </section>
  );
}
