// The keyboard: single keys that work wherever nobody is typing.
interface Binding {
  keys: string[];
  told: string;
  run: () => void;
}

const bindings = new Map<string, { binding: Binding; owner: symbol }[]>();

/** Has `run` called for `keys` until the function that is returned is called. The last to come is the one that is asked. */
export function bind(keys: string[], told: string, run: () => void): () => void {
  const owner = Symbol(told);
  for (const key of keys) {
    const all = bindings.get(key) ?? [];
    all.push({ binding: { keys, told, run }, owner });
    bindings.set(key, all);
  }
  return () => {
    for (const key of keys)
      bindings.set(
        key,
        (bindings.get(key) ?? []).filter((one) => one.owner !== owner),
      );
  };
}

/** Those that work now, each once. */
export function present(): { keys: string[]; told: string }[] {
  const out = new Map<string, { keys: string[]; told: string }>();
  for (const all of bindings.values()) {
    const last = all.at(-1);
    if (last) out.set(last.binding.told, { keys: last.binding.keys, told: last.binding.told });
  }
  return [...out.values()];
}

function isTyping(target: EventTarget | null): boolean {
  const at = target instanceof Element ? (target.shadowRoot?.activeElement ?? target) : null;
  return at instanceof HTMLElement && (at.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(at.tagName));
}

/** Keys that move in whatever is scrolled: they mean the list only where nothing else has them. */
const movesThere = (key: string, target: EventTarget | null): boolean =>
  /^(Arrow|Page|Home|End|Enter)/.test(key) &&
  target instanceof Element &&
  target !== document.body &&
  !target.closest(".rows, nav, .tools");

export function listen(): void {
  addEventListener("keydown", (event) => {
    if (event.ctrlKey || event.metaKey || event.altKey || event.defaultPrevented) return;
    if (isTyping(event.composedPath()[0] ?? null) && event.key !== "Escape") return;
    const last = bindings.get(event.key)?.at(-1);
    if (!last || movesThere(event.key, event.target)) return;
    // A button or a link has its own Enter.
    if (event.key === "Enter" && event.target instanceof Element && event.target.closest("a, button, summary")) return;
    event.preventDefault();
    last.binding.run();
  });
}
