// Choosing a folder of this computer, among those that the server tells of.
import { useSignal } from "@preact/signals";
import { call, type Folders, query } from "../api";
import { Problem, useCall } from "./basics";

export function FolderBrowser({ start, choose }: { start: string; choose: (path: string) => void }) {
  const path = useSignal(start);
  const isHiddenShown = useSignal(false);
  const { value, problem, isWaiting } = useCall<Folders>(
    (signal) => call(`/v1/folders${query({ path: path.value, hidden: isHiddenShown.value })}`, { signal }),
    [path.value, isHiddenShown.value],
  );
  const here = value.value;
  const goTo = (next: string) => {
    path.value = next;
  };
  return (
    <fieldset class="folders" aria-busy={isWaiting.value}>
      <legend>Folders of this computer</legend>
      <Problem of={problem.value} />
      <p class="tools">
        <code>{here?.path ?? path.value}</code>
        {here && (
          <button type="button" class="strong" onClick={() => choose(here.path)}>
            Take this folder
          </button>
        )}
      </p>
      <p class="tools">
        <button type="button" class="quiet" disabled={!here?.above} onClick={() => goTo(here?.above ?? "/")}>
          ↑ Above
        </button>
        <button type="button" class="quiet" onClick={() => goTo(here?.home ?? "")}>
          Home
        </button>
        <label>
          <input
            type="checkbox"
            checked={isHiddenShown.value}
            onChange={(event) => {
              isHiddenShown.value = event.currentTarget.checked;
            }}
          />{" "}
          hidden ones too
        </label>
      </p>
      <ul class="plain many">
        {here?.folders.map((folder) => (
          <li key={folder.path}>
            <button type="button" class="quiet" disabled={!folder.readable} onClick={() => goTo(folder.path)}>
              {folder.name}/
            </button>
          </li>
        ))}
      </ul>
      {here?.folders.length === 0 && <p class="dimmed">There is no folder in this one.</p>}
    </fieldset>
  );
}
