// The editor, in a shadow root: there its styles are sheets that are adopted, which the page's policy allows, and not
// elements, which it does not.
import { defaultKeymap, history, historyKeymap, indentWithTab } from "@codemirror/commands";
import { bracketMatching, indentOnInput } from "@codemirror/language";
import { type Diagnostic, lintGutter, setDiagnostics } from "@codemirror/lint";
import { highlightSelectionMatches, search, searchKeymap } from "@codemirror/search";
import { EditorState, type Extension } from "@codemirror/state";
import { drawSelection, EditorView, highlightActiveLine, keymap, lineNumbers } from "@codemirror/view";
import { colours, languageOf } from "./languages";

/** A remark at a line of the text, which is counted from 1. */
export interface Mark {
  line: number;
  column?: number;
  text: string;
}

export interface Editor {
  setText(text: string): void;
  setMarks(marks: Mark[]): void;
  destroy(): void;
}

interface Wish {
  label: string;
  kind: string;
  text: string;
  change?: ((text: string) => void) | undefined;
  save: () => void;
}

export const look: Extension = EditorView.theme({
  "&": { height: "100%", fontSize: "13px", color: "var(--ink)", backgroundColor: "var(--paper)" },
  "&.cm-focused": { outline: "2px solid var(--teal)", outlineOffset: "-2px" },
  ".cm-scroller": { fontFamily: "var(--mono)", lineHeight: "1.5" },
  ".cm-gutters": { backgroundColor: "var(--paper)", color: "var(--dimmed)", borderRight: "1px solid var(--lines)" },
  ".cm-activeLine, .cm-activeLineGutter": { backgroundColor: "var(--tint)" },
  ".cm-cursor": { borderLeftColor: "var(--ink)" },
  ".cm-selectionBackground, &.cm-focused .cm-selectionBackground": { backgroundColor: "var(--chosen) !important" },
  ".cm-lintRange-error": { backgroundImage: "none", textDecoration: "underline wavy var(--wrong)" },
  ".cm-lint-marker-error": { content: '"▲"', color: "var(--wrong)", fontSize: "10px", lineHeight: "19px" },
  ".cm-tooltip, .cm-panels": {
    backgroundColor: "var(--paper)",
    color: "var(--ink)",
    border: "1px solid var(--lines)",
    fontFamily: "var(--sans)",
  },
  ".cm-changedLine": { backgroundColor: "var(--tint) !important" },
  ".cm-deletedChunk, .cm-changedText": { textDecorationColor: "var(--notice)" },
});

/** The root that an editor lives in, in the place of what `host` holds. */
export function rootIn(host: HTMLElement): ShadowRoot {
  return host.shadowRoot ?? host.attachShadow({ mode: "open" });
}

export function makeEditor(host: HTMLElement, wish: Wish): Editor {
  const root = rootIn(host);
  const isWritten = wish.change !== undefined;
  let isSetting = false;
  const view = new EditorView({
    root,
    parent: root,
    state: EditorState.create({
      doc: wish.text,
      extensions: [
        lineNumbers(),
        lintGutter(),
        history(),
        drawSelection(),
        bracketMatching(),
        indentOnInput(),
        search({ top: true }),
        highlightSelectionMatches(),
        isWritten ? highlightActiveLine() : [],
        EditorState.readOnly.of(!isWritten),
        EditorView.contentAttributes.of({ "aria-label": wish.label, tabindex: "0" }),
        EditorView.lineWrapping,
        languageOf(wish.kind),
        colours,
        look,
        keymap.of([
          {
            key: "Mod-s",
            run: () => {
              wish.save();
              return true;
            },
          },
          ...defaultKeymap,
          ...historyKeymap,
          ...searchKeymap,
          // Tab leaves what is only read.
          ...(isWritten ? [indentWithTab] : []),
        ]),
        EditorView.updateListener.of((update) => {
          if (update.docChanged && !isSetting) wish.change?.(update.state.doc.toString());
        }),
      ],
    }),
  });
  return {
    setText(text) {
      if (view.state.doc.toString() === text) return;
      isSetting = true;
      view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: text } });
      isSetting = false;
    },
    setMarks(marks) {
      const doc = view.state.doc;
      const all: Diagnostic[] = marks
        .filter((mark) => mark.line >= 1 && mark.line <= doc.lines)
        .map((mark) => {
          const line = doc.line(mark.line);
          const from = Math.min(line.from + Math.max(0, (mark.column ?? 1) - 1), line.to);
          return { from, to: line.to, severity: "error", message: mark.text };
        });
      view.dispatch(setDiagnostics(view.state, all));
      const first = all[0];
      if (first && !isWritten) view.dispatch({ effects: EditorView.scrollIntoView(first.from, { y: "center" }) });
    },
    destroy: () => view.destroy(),
  };
}
