// A view with the detail of what is chosen beside it. The width of the detail is the user's; on a narrow screen the
// detail takes the place of the view, with a way back.
import { signal } from "@preact/signals";
import type { ComponentChildren } from "preact";
import { useEffect } from "preact/hooks";
import { bind } from "../keys";

const place = "porter-detail-width";
const width = signal(Number(localStorage.getItem(place)) || 46);
const least = 25;
const most = 75;

function set(percent: number): void {
  width.value = Math.round(Math.max(least, Math.min(most, percent)));
  localStorage.setItem(place, String(width.value));
}

export function Split({
  children,
  detail,
  close,
  label,
}: {
  children: ComponentChildren;
  detail: ComponentChildren | null;
  close: () => void;
  label: string;
}) {
  const isOpen = detail !== null;
  useEffect(() => (isOpen ? bind(["Escape"], "Close the detail", close) : undefined), [isOpen]);
  const drag = (event: PointerEvent) => {
    const bar = event.currentTarget as HTMLElement;
    const all = bar.parentElement?.getBoundingClientRect();
    if (!all) return;
    bar.setPointerCapture(event.pointerId);
    const move = (to: PointerEvent) => set(((all.right - to.clientX) / all.width) * 100);
    const end = () => {
      bar.removeEventListener("pointermove", move);
      bar.removeEventListener("pointerup", end);
    };
    bar.addEventListener("pointermove", move);
    bar.addEventListener("pointerup", end);
  };
  const step = (event: KeyboardEvent) => {
    if (event.key === "ArrowLeft") set(width.value + 2);
    else if (event.key === "ArrowRight") set(width.value - 2);
    else return;
    event.preventDefault();
    event.stopPropagation();
  };
  return (
    <div class={isOpen ? "split open" : "split"}>
      <div class="view">{children}</div>
      {isOpen && (
        // biome-ignore lint/a11y/useSemanticElements: a separator that can be moved is no rule
        <div
          class="bar"
          role="separator"
          aria-orientation="vertical"
          aria-label="Width of the detail"
          aria-valuenow={width.value}
          aria-valuemin={least}
          aria-valuemax={most}
          tabIndex={0}
          onPointerDown={drag}
          onKeyDown={step}
        />
      )}
      {isOpen && (
        <section class="detail" aria-label={label} style={{ "--width": `${width.value}%` }}>
          <p class="back">
            <button type="button" class="quiet" onClick={close}>
              ← Back to the list
            </button>
          </p>
          {detail}
        </section>
      )}
    </div>
  );
}
