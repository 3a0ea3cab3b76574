/** The query language for the editor: which letters are which sort of word. */
import { HighlightStyle, StreamLanguage, syntaxHighlighting } from "@codemirror/language";
import type { Extension } from "@codemirror/state";
import { tags } from "@lezer/highlight";

import type { Theme } from "../../frame/theme";

const WORDS = new Set(
  (
    "let show of where and or not in by overall as points over last to since per zone auto at now today yesterday keeping top bottom " +
    "gaps stepping starting taking within matches has lacks earlier unit from raw hold line empty"
  ).split(" "),
);
/** Every reducer, in the order in which the form offers them. */
export const REDUCERS = (
  "mean max min sum count first last median p90 p95 p99 spread stddev variance growth rate spot_rate delta area time_mean changes " +
  "distinct slope coverage"
).split(" ");
const REDUCER = /^(p\d[\d.]*|time_in|share_in)$/;
const KNOWN = new Set(REDUCERS);

const language = StreamLanguage.define<{ before: string }>({
  name: "fenetre",
  startState: () => ({ before: "" }),
  token(stream, state) {
    if (stream.eatSpace()) return null;
    if (stream.eat("#")) {
      stream.skipToEnd();
      return "comment";
    }
    if (stream.match(/^"(\\.|[^"\\])*"?/)) return "string";
    if (stream.match(/^'[^']*'?/)) return "variableName";
    if (stream.match(/^\d[\p{L}\p{N}.:+-]*/u)) return "number";
    const word = stream.match(/^[\p{L}_][\p{L}\p{N}_.:]*/u);
    if (word && word !== true) {
      const text = word[0] ?? "";
      const before = state.before;
      state.before = text;
      // `last` is a reducer before `of` and a word of the frame behind `over`.
      const isReducer = KNOWN.has(text) || REDUCER.test(text);
      if (isReducer && before !== "over" && stream.match(/^(\(|\s+of\b)/, false)) return "typeName";
      return WORDS.has(text) ? "keyword" : "variableName";
    }
    stream.next();
    return null;
  },
});

export function highlighting(theme: Theme): Extension {
  const style = HighlightStyle.define([
    { tag: tags.keyword, color: theme.water, fontWeight: "600" },
    { tag: tags.typeName, color: theme.lines[3] ?? theme.ink, fontWeight: "600" },
    { tag: tags.string, color: theme.lines[1] ?? theme.ink },
    { tag: tags.number, color: theme.lines[0] ?? theme.ink },
    { tag: tags.comment, color: theme.faint, fontStyle: "italic" },
  ]);
  return [language, syntaxHighlighting(style)];
}
