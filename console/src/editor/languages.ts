// Which grammar colours a text.
import { css } from "@codemirror/lang-css";
import { html } from "@codemirror/lang-html";
import { javascript } from "@codemirror/lang-javascript";
import { json } from "@codemirror/lang-json";
import { php } from "@codemirror/lang-php";
import { python } from "@codemirror/lang-python";
import { HighlightStyle, StreamLanguage, syntaxHighlighting } from "@codemirror/language";
import { lua } from "@codemirror/legacy-modes/mode/lua";
import { perl } from "@codemirror/legacy-modes/mode/perl";
import { ruby } from "@codemirror/legacy-modes/mode/ruby";
import { shell } from "@codemirror/legacy-modes/mode/shell";
import { tcl } from "@codemirror/legacy-modes/mode/tcl";
import { toml } from "@codemirror/legacy-modes/mode/toml";
import type { Extension } from "@codemirror/state";
import { tags } from "@lezer/highlight";

const byName: [RegExp, () => Extension][] = [
  [/\.toml$/, () => StreamLanguage.define(toml)],
  [/\.(php|phtml)$/, () => php()],
  [/\.(pl|cgi|pm)$|perl/, () => StreamLanguage.define(perl)],
  [/\.py$|python/, () => python()],
  [/\.rb$|ruby/, () => StreamLanguage.define(ruby)],
  [/\.lua$/, () => StreamLanguage.define(lua)],
  [/\.tcl$/, () => StreamLanguage.define(tcl)],
  [/\.(m?js|cjs)$|javascript/, () => javascript()],
  [/\.json$|json/, () => json()],
  [/\.css$|css/, () => css()],
  [/\.html?$|html|xml|svg/, () => html()],
  [/\.sh$|\bsh\b|bash/, () => StreamLanguage.define(shell)],
];

export function languageOf(kind: string): Extension {
  const found = byName.find(([pattern]) => pattern.test(kind.toLowerCase()));
  return found ? found[1]() : [];
}

export const colours = syntaxHighlighting(
  HighlightStyle.define([
    { tag: [tags.keyword, tags.operatorKeyword, tags.tagName, tags.heading], color: "var(--teal)" },
    { tag: [tags.string, tags.special(tags.string), tags.attributeValue], color: "var(--good)" },
    { tag: [tags.number, tags.bool, tags.null, tags.atom], color: "var(--notice)" },
    { tag: [tags.comment, tags.meta], color: "var(--dimmed)", fontStyle: "italic" },
    { tag: [tags.propertyName, tags.attributeName], color: "var(--ink)", fontWeight: "600" },
    { tag: tags.invalid, color: "var(--wrong)" },
  ]),
);
