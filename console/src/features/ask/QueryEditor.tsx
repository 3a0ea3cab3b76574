/** The query's text, with errors under the word. Alone touches the editor's library. */
import { defaultKeymap, history, historyKeymap } from "@codemirror/commands";
import { setDiagnostics } from "@codemirror/lint";
import { Compartment, EditorState, Prec } from "@codemirror/state";
import { EditorView, keymap, placeholder } from "@codemirror/view";
import { useEffect, useRef } from "react";
import styled, { useTheme } from "styled-components";

import type { Problem } from "../../api/types";
import { indexOfByte } from "./bytes";
import { completion } from "./completion";
import { highlighting } from "./language";

const Frame = styled.div`
  border: 1px solid ${({ theme }) => theme.faint};
  border-radius: 2px;
  background: ${({ theme }) => theme.sheet};
  &:focus-within {
    outline: 2px solid ${({ theme }) => theme.water};
  }
`;

interface Props {
  dataset: string;
  text: string;
  problem: Problem | null;
  onChange: (text: string) => void;
  onAsk: (text: string) => void;
}

export function QueryEditor({ dataset, text, problem, onChange, onAsk }: Props) {
  const theme = useTheme();
  const place = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView | null>(null);
  const look = useRef(new Compartment());
  const handlers = useRef({ onChange, onAsk, dataset });
  useEffect(() => {
    handlers.current = { onChange, onAsk, dataset };
  });
  const first = useRef({ text, theme });

  useEffect(() => {
    if (!place.current) return;
    const nonce = document.querySelector<HTMLMetaElement>("meta[property=csp-nonce]")?.nonce ?? "";
    const runs = {
      key: "Mod-Enter",
      run: (editor: EditorView) => (handlers.current.onAsk(editor.state.doc.toString()), true),
    };
    const editor = new EditorView({
      parent: place.current,
      state: EditorState.create({
        doc: first.current.text,
        extensions: [
          EditorView.cspNonce.of(nonce),
          Prec.highest(keymap.of([runs])),
          history(),
          completion(() => handlers.current.dataset),
          keymap.of([...defaultKeymap, ...historyKeymap]),
          EditorView.lineWrapping,
          placeholder('show mean of level where reach = "upper"'),
          EditorView.contentAttributes.of({ "aria-label": "Query", spellcheck: "false" }),
          EditorView.updateListener.of((update) => {
            if (update.docChanged) handlers.current.onChange(update.state.doc.toString());
          }),
          look.current.of(appearance(first.current.theme)),
        ],
      }),
    });
    view.current = editor;
    return () => editor.destroy();
  }, []);

  useEffect(() => view.current?.dispatch({ effects: look.current.reconfigure(appearance(theme)) }), [theme]);

  useEffect(() => {
    const editor = view.current;
    if (editor && editor.state.doc.toString() !== text) {
      editor.dispatch({ changes: { from: 0, to: editor.state.doc.length, insert: text } });
    }
  }, [text]);

  useEffect(() => {
    const editor = view.current;
    if (!editor) return;
    const doc = editor.state.doc.toString();
    const place = problem?.place?.text === "query" ? problem.place : null;
    // A text that only goes on has no word that is wrong.
    const found = place && indexOfByte(doc, place.start) < doc.trimEnd().length ? place : null;
    const from = found ? indexOfByte(doc, found.start) : 0;
    const to = found ? Math.max(indexOfByte(doc, found.end), Math.min(from + 1, doc.length)) : 0;
    const message = problem ? [problem.detail, problem.help].filter(Boolean).join("\n") : "";
    editor.dispatch(
      setDiagnostics(editor.state, found ? [{ from: Math.min(from, to), to, severity: "error", message }] : []),
    );
  }, [problem, text]);

  return <Frame ref={place} />;
}

function appearance(theme: ReturnType<typeof useTheme>) {
  return [
    EditorView.theme(
      {
        "&": { fontSize: "14px" },
        "&.cm-focused": { outline: "none" },
        ".cm-content": {
          fontFamily: 'ui-monospace, "DejaVu Sans Mono", monospace',
          padding: "8px 4px",
          caretColor: theme.ink,
          minHeight: "60px",
        },
        ".cm-placeholder": { color: theme.faint },
        ".cm-cursor": { borderLeftColor: theme.ink },
        ".cm-selectionBackground, &.cm-focused .cm-selectionBackground": { background: theme.shallow },
        ".cm-lintRange-error": { backgroundImage: "none", borderBottom: `2px solid ${theme.brick}` },
        ".cm-tooltip": {
          background: theme.sheet,
          color: theme.ink,
          border: `1px solid ${theme.ink}`,
          whiteSpace: "pre-wrap",
        },
        ".cm-tooltip-autocomplete > ul": { fontFamily: "inherit", maxHeight: "240px" },
        ".cm-tooltip-autocomplete > ul > li[aria-selected]": { background: theme.shallow, color: theme.ink },
        ".cm-completionDetail": { color: theme.faint, fontStyle: "normal", marginLeft: "12px" },
        ".cm-diagnostic-error": { borderLeftColor: theme.brick },
      },
      { dark: theme.name === "dark" },
    ),
    highlighting(theme),
  ];
}
