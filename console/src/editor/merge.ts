// Two texts side by side.
import { MergeView } from "@codemirror/merge";
import { EditorState } from "@codemirror/state";
import { EditorView, lineNumbers } from "@codemirror/view";
import { look, rootIn } from "./editor";
import { colours, languageOf } from "./languages";

interface Wish {
  left: string;
  right: string;
  kind: string;
  label: string;
}

/** Shows both below `host`; returns how to end that. */
export function makeMerge(host: HTMLElement, wish: Wish): () => void {
  const root = rootIn(host);
  const side = (doc: string, label: string) => ({
    doc,
    extensions: [
      lineNumbers(),
      EditorState.readOnly.of(true),
      EditorView.lineWrapping,
      EditorView.contentAttributes.of({ "aria-label": label, tabindex: "0" }),
      languageOf(wish.kind),
      colours,
      look,
    ],
  });
  const view = new MergeView({
    a: side(wish.left, `${wish.label}, left`),
    b: side(wish.right, `${wish.label}, right`),
    parent: root,
    root,
    collapseUnchanged: { margin: 3, minSize: 6 },
    gutter: true,
  });
  return () => view.destroy();
}
