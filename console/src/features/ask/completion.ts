/** Completion in the editor: the service says what may stand at the cursor. */
import {
  autocompletion,
  type Completion,
  type CompletionContext,
  type CompletionResult,
} from "@codemirror/autocomplete";
import type { Extension } from "@codemirror/state";

import { complete } from "../../api/client";
import { indexOfByte } from "./bytes";

const SORTS: Record<string, string> = {
  metric: "variable",
  tag: "property",
  value: "text",
  reducer: "function",
  function: "method",
  word: "keyword",
  time: "constant",
};

export function completion(dataset: () => string): Extension {
  const source = async (context: CompletionContext): Promise<CompletionResult | null> => {
    const text = context.state.doc.toString();
    const before = text.slice(0, context.pos);
    const opens = /(^|[\s("',=])$/.test(before);
    if (!context.explicit && !opens && !/[\p{L}\p{N}_."']$/u.test(before)) return null;
    const abort = new AbortController();
    context.addEventListener("abort", () => abort.abort(), { onDocChange: true });
    const bytes = new TextEncoder().encode(before).length;
    const found = await complete(dataset(), text, bytes, abort.signal).catch(() => null);
    if (found === null || found.suggestions.length === 0) return null;
    const options: Completion[] = found.suggestions.map(({ text: label, kind, detail }, i) => ({
      label,
      apply: kind === "function" || label.endsWith("(") ? label : `${label} `,
      type: SORTS[kind] ?? "text",
      boost: -i / 10,
      ...(detail ? { detail } : {}),
    }));
    return { from: indexOfByte(text, found.start), options, filter: false };
  };
  return autocompletion({ override: [source], icons: false, activateOnTypingDelay: 60 });
}
