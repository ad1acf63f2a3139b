import { defaultKeymap, history, historyKeymap, indentWithTab } from "@codemirror/commands";
import { yaml } from "@codemirror/lang-yaml";
import { defaultHighlightStyle, syntaxHighlighting } from "@codemirror/language";
import { type Diagnostic, linter, lintGutter } from "@codemirror/lint";
import { EditorState } from "@codemirror/state";
import { drawSelection, EditorView, highlightActiveLine, keymap, lineNumbers } from "@codemirror/view";
import { useEffect, useRef } from "react";
import styled from "styled-components";
import { api, type Complaint } from "../api/client";

const Box = styled.div`
  border: 1px solid var(--line-strong);
  border-radius: 5px;
  overflow: hidden;
  background: var(--raised);
  &:focus-within {
    outline: 2px solid var(--focus);
    outline-offset: 1px;
  }
`;

const look = EditorView.theme({
  "&": { fontSize: "0.88rem", height: "34rem" },
  ".cm-scroller": { fontFamily: "var(--mono)", lineHeight: "1.5" },
  "&.cm-focused": { outline: "none" },
  ".cm-gutters": { background: "var(--ground)", color: "var(--muted)", border: "none" },
  ".cm-content": { caretColor: "var(--ink)" },
  ".cm-cursor": { borderLeftColor: "var(--ink)" },
  ".cm-activeLine": { background: "color-mix(in srgb, var(--accent) 6%, transparent)" },
  ".cm-selectionBackground, &.cm-focused .cm-selectionBackground": {
    background: "color-mix(in srgb, var(--accent) 22%, transparent) !important",
  },
  // In place of the pictures that the library would load from data: addresses.
  ".cm-lint-marker": { width: "0.75em", height: "0.75em" },
  ".cm-lint-marker-error": {
    content: "''",
    background: "var(--blocks)",
    borderRadius: "2px",
    transform: "rotate(45deg)",
    margin: "0.4em auto 0",
  },
  ".cm-lintRange-error": {
    backgroundImage: "none",
    textDecoration: "underline wavy var(--blocks)",
    textUnderlineOffset: "3px",
  },
  ".cm-tooltip": { background: "var(--sheet)", border: "1px solid var(--line-strong)", color: "var(--ink)" },
});

/** The nonce of the page, without which its style rules would be refused. */
const nonce = () => document.querySelector<HTMLMetaElement>("meta[property=csp-nonce]")?.nonce ?? "";

function diagnostics(view: EditorView, complaints: Complaint[]): Diagnostic[] {
  return complaints.map((c) => {
    const line = view.state.doc.line(Math.min(Math.max(1, c.line), view.state.doc.lines));
    const from = Math.min(line.from + Math.max(0, c.column - 1), line.to);
    const word = /^[^\s,}\]]+/.exec(view.state.sliceDoc(from, line.to))?.[0].length ?? 0;
    return { from, to: Math.min(line.to, from + Math.max(1, word)), severity: "error", message: c.what };
  });
}

/** A profile's text; each complaint of the service's lint stands at its place. */
export default function Editor({
  text,
  onChange,
  onComplaints,
}: {
  text: string;
  onChange: (text: string) => void;
  onComplaints: (c: Complaint[]) => void;
}) {
  const box = useRef<HTMLDivElement>(null);
  const told = useRef({ onChange, onComplaints });
  const view = useRef<EditorView>(undefined);
  useEffect(() => {
    told.current = { onChange, onComplaints };
  });
  useEffect(() => {
    if (!box.current) return;
    const made = new EditorView({
      parent: box.current,
      state: EditorState.create({
        doc: text,
        extensions: [
          EditorView.cspNonce.of(nonce()),
          look,
          lineNumbers(),
          lintGutter(),
          history(),
          drawSelection(),
          highlightActiveLine(),
          yaml(),
          syntaxHighlighting(defaultHighlightStyle),
          EditorView.lineWrapping,
          keymap.of([...defaultKeymap, ...historyKeymap, indentWithTab]),
          EditorView.contentAttributes.of({ "aria-label": "Profile", tabindex: "0" }),
          EditorView.updateListener.of((u) => {
            if (u.docChanged) told.current.onChange(u.state.doc.toString());
          }),
          linter(
            async (v) => {
              const complaints = await api.lintGame(v.state.doc.toString());
              told.current.onComplaints(complaints);
              return diagnostics(v, complaints);
            },
            { delay: 350 },
          ),
        ],
      }),
    });
    view.current = made;
    return () => made.destroy();
    // oxlint-disable-next-line react-hooks/exhaustive-deps -- the editor is made once; later text comes below
  }, []);
  useEffect(() => {
    const v = view.current;
    if (v && v.state.doc.toString() !== text)
      v.dispatch({ changes: { from: 0, to: v.state.doc.length, insert: text } });
  }, [text]);
  return <Box ref={box} />;
}
