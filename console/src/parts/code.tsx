// Text with colours, to be read or written. The editor is loaded when the first is shown.
import { useSignal } from "@preact/signals";
import { useEffect, useRef } from "preact/hooks";
import type { Editor, Mark } from "../editor/editor";

export type { Mark } from "../editor/editor";

interface Wish {
  label: string;
  text: string;
  /** A media type, or a file's name. */
  kind: string;
  marks?: Mark[];
  change?: (text: string) => void;
  save?: () => void;
}

export function Code({ label, text, kind, marks = [], change, save }: Wish) {
  const host = useRef<HTMLDivElement>(null);
  const editor = useRef<Editor | null>(null);
  const isReady = useSignal(false);
  // What the editor has told of and has not come back yet: whoever types is ahead of what is shown around the editor.
  const told = useRef<string[]>([]);
  const latest = useRef({ text, marks, change, save });
  latest.current = { text, marks, change, save };
  useEffect(() => {
    let isGone = false;
    void import("../editor/editor").then(({ makeEditor }) => {
      const element = host.current;
      if (isGone || !element) return;
      editor.current = makeEditor(element, {
        label,
        kind,
        text: latest.current.text,
        change: change
          ? (now) => {
              told.current.push(now);
              latest.current.change?.(now);
            }
          : undefined,
        save: () => latest.current.save?.(),
      });
      editor.current.setMarks(latest.current.marks);
      isReady.value = true;
    });
    return () => {
      isGone = true;
      editor.current?.destroy();
      editor.current = null;
    };
  }, [kind, label]);
  useEffect(() => {
    const at = told.current.lastIndexOf(text);
    told.current.splice(0, at + 1);
    if (at < 0) editor.current?.setText(text);
  }, [text]);
  useEffect(() => editor.current?.setMarks(marks), [marks]);
  return (
    <div class="code" ref={host}>
      {!isReady.value && <pre class="waiting">{text.slice(0, 20_000)}</pre>}
    </div>
  );
}

/** Two texts side by side, with what differs marked. */
export function Beside({ left, right, kind, label }: { left: string; right: string; kind: string; label: string }) {
  const host = useRef<HTMLDivElement>(null);
  useEffect(() => {
    let end: (() => void) | null = null;
    let isGone = false;
    void import("../editor/merge").then(({ makeMerge }) => {
      if (!isGone && host.current) end = makeMerge(host.current, { left, right, kind, label });
    });
    return () => {
      isGone = true;
      end?.();
    };
  }, [left, right, kind, label]);
  return <div class="code beside" ref={host} />;
}
