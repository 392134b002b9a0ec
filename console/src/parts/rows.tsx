// A list of any length of which only what is seen is in the document.
import { useSignal } from "@preact/signals";
import type { ComponentChildren } from "preact";
import { useEffect, useLayoutEffect, useRef } from "preact/hooks";
import { bind } from "../keys";

const rowHeight = 28;
const more = 8;

interface Wish<Row> {
  label: string;
  rows: Row[];
  keyOf: (row: Row) => string;
  /** Where the row with a key is, where that can be told faster than by looking at the key of each; -1: nowhere. */
  indexOf?: (rows: Row[], key: string) => number;
  show: (row: Row) => ComponentChildren;
  chosen: string;
  choose: (row: Row) => void;
  open?: (row: Row) => void;
  /** It has just come in. */
  isFresh?: (row: Row) => boolean;
  /** New rows come at the end, and the end stays in view while it is. */
  follows?: boolean;
}

export function Rows<Row>({
  label,
  rows,
  keyOf,
  indexOf,
  show,
  chosen,
  choose,
  open,
  isFresh,
  follows = false,
}: Wish<Row>) {
  const box = useRef<HTMLDivElement>(null);
  const top = useSignal(0);
  const height = useSignal(400);
  const atEnd = useRef(true);
  const anchor = useRef<{ key: string; offset: number } | null>(null);
  const placeOf = (key: string) => (indexOf ? indexOf(rows, key) : rows.findIndex((row) => keyOf(row) === key));

  useLayoutEffect(() => {
    const element = box.current;
    if (!element) return;
    const observer = new ResizeObserver(() => {
      height.value = element.clientHeight;
    });
    observer.observe(element);
    height.value = element.clientHeight;
    return () => observer.disconnect();
  }, []);

  const latest = useRef({ rows, keyOf });
  latest.current = { rows, keyOf };
  const scrolled = () => {
    const element = box.current;
    if (!element) return;
    top.value = element.scrollTop;
    atEnd.current = element.scrollTop + element.clientHeight >= element.scrollHeight - rowHeight;
    const first = latest.current.rows[Math.floor(element.scrollTop / rowHeight)];
    anchor.current =
      element.scrollTop > 0 && first !== undefined
        ? { key: latest.current.keyOf(first), offset: element.scrollTop % rowHeight }
        : null;
  };

  // The list keeps its place when rows come in.
  useLayoutEffect(() => {
    const element = box.current;
    if (!element) return;
    // Where it scrolls to is computed: to read it back would have the browser lay everything out at once.
    const scrollTo = (wanted: number) => {
      element.scrollTop = wanted;
      top.value = Math.max(0, Math.min(wanted, rows.length * rowHeight - height.peek()));
    };
    if (follows && atEnd.current) {
      scrollTo(rows.length * rowHeight);
    } else if (anchor.current) {
      const key = anchor.current.key;
      const at = placeOf(key);
      if (at >= 0) scrollTo(at * rowHeight + anchor.current.offset);
    }
  }, [rows, follows]);

  const index = chosen ? placeOf(chosen) : -1;
  const moveTo = (next: number) => {
    const at = Math.max(0, Math.min(rows.length - 1, next));
    const row = rows[at];
    const element = box.current;
    if (row === undefined || !element) return;
    choose(row);
    if (at * rowHeight < element.scrollTop) element.scrollTop = at * rowHeight;
    if ((at + 1) * rowHeight > element.scrollTop + element.clientHeight)
      element.scrollTop = (at + 1) * rowHeight - element.clientHeight;
  };
  const move = useRef(moveTo);
  move.current = moveTo;
  const present = useRef({ index, rows, open });
  present.current = { index, rows, open };
  useEffect(() => {
    const step = (by: number) => () => move.current(present.current.index < 0 ? 0 : present.current.index + by);
    const ends = [
      bind(["ArrowDown", "j"], "The next row", step(1)),
      bind(["ArrowUp", "k"], "The row before", step(-1)),
      bind(["PageDown"], "A page further", step(15)),
      bind(["PageUp"], "A page back", step(-15)),
      bind(["Home"], "The first row", () => move.current(0)),
      bind(["End"], "The last row", () => move.current(present.current.rows.length - 1)),
      bind(["Enter"], "Open what is chosen", () => {
        const row = present.current.rows[present.current.index];
        if (row !== undefined) present.current.open?.(row);
      }),
    ];
    return () => {
      for (const end of ends) end();
    };
  }, []);

  const first = Math.max(0, Math.floor(top.value / rowHeight) - more);
  const last = Math.min(rows.length, Math.ceil((top.value + height.value) / rowHeight) + more);
  const chosenId = index >= 0 ? `row-${chosen}` : undefined;
  return (
    <div
      class="rows"
      ref={box}
      onScroll={scrolled}
      role="listbox"
      aria-label={label}
      aria-activedescendant={index >= first && index < last ? chosenId : undefined}
      tabIndex={0}
    >
      <div style={{ height: `${rows.length * rowHeight}px` }} role="presentation" class="all-rows">
        {rows.slice(first, last).map((row, i) => {
          const key = keyOf(row);
          return (
            // biome-ignore lint/a11y/useKeyWithClickEvents: the keyboard is that of the whole list
            <div
              key={key}
              id={`row-${key}`}
              class={isFresh?.(row) ? "row fresh" : "row"}
              role="option"
              tabIndex={-1}
              aria-selected={key === chosen}
              aria-posinset={first + i + 1}
              aria-setsize={rows.length}
              style={{ top: `${(first + i) * rowHeight}px` }}
              onClick={() => {
                choose(row);
                open?.(row);
              }}
            >
              {show(row)}
            </div>
          );
        })}
      </div>
    </div>
  );
}
