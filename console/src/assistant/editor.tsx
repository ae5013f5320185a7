import { defaultKeymap, history, historyKeymap, indentWithTab } from "@codemirror/commands";
import { markdown } from "@codemirror/lang-markdown";
import { yaml } from "@codemirror/lang-yaml";
import {
  bracketMatching,
  HighlightStyle,
  indentOnInput,
  syntaxHighlighting,
} from "@codemirror/language";
import { type Diagnostic, lintGutter, setDiagnostics } from "@codemirror/lint";
import { highlightSelectionMatches, search, searchKeymap } from "@codemirror/search";
import { EditorState } from "@codemirror/state";
import { EditorView, highlightActiveLine, keymap, lineNumbers } from "@codemirror/view";
import { tags } from "@lezer/highlight";
import { useEffect, useRef } from "react";
import type { FileError } from "../api";
import { nonce } from "../nonce";
import { colour } from "../theme";

const look = EditorView.theme({
  "&": { height: "100%", backgroundColor: colour.sheet, color: colour.ink, fontSize: "0.86rem" },
  ".cm-scroller": { fontFamily: 'ui-monospace, "DejaVu Sans Mono", monospace', lineHeight: "1.5" },
  ".cm-gutters": { backgroundColor: colour.sea, color: colour.faded, border: "none" },
  ".cm-activeLine, .cm-activeLineGutter": { backgroundColor: colour.wash },
  ".cm-content": { caretColor: colour.ink },
  ".cm-cursor": { borderLeftColor: colour.ink },
  "&.cm-focused .cm-selectionBackground, .cm-selectionBackground": { backgroundColor: colour.rule },
  ".cm-tooltip": {
    backgroundColor: colour.sheet,
    color: colour.ink,
    border: `1px solid ${colour.faded}`,
  },
  ".cm-panels": { backgroundColor: colour.sea, color: colour.ink },
});

const inks = HighlightStyle.define([
  {
    tag: [tags.propertyName, tags.definition(tags.propertyName), tags.heading],
    color: colour.kelp,
    fontWeight: "600",
  },
  { tag: [tags.string, tags.number, tags.bool, tags.link, tags.url], color: colour.brass },
  { tag: tags.comment, color: colour.faded, fontStyle: "italic" },
  { tag: tags.invalid, color: colour.buoy },
]);

/** A file to write in; errors and warnings stand at their places. Escape, then Tab leaves it. */
export function Editor(props: {
  file: string;
  text: string;
  onChange: (text: string) => void;
  errors: FileError[];
  warnings: FileError[];
}) {
  const place = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView | null>(null);
  const changed = useRef(props.onChange);
  changed.current = props.onChange;
  useEffect(() => {
    const made = new EditorView({
      parent: place.current ?? undefined,
      state: EditorState.create({
        doc: props.text,
        extensions: [
          EditorView.cspNonce.of(nonce()),
          lineNumbers(),
          lintGutter(),
          history(),
          search({ top: true }),
          highlightActiveLine(),
          highlightSelectionMatches(),
          indentOnInput(),
          bracketMatching(),
          syntaxHighlighting(inks),
          props.file.endsWith(".md") ? markdown() : props.file.endsWith(".yaml") ? yaml() : [],
          keymap.of([...defaultKeymap, ...historyKeymap, ...searchKeymap, indentWithTab]),
          EditorView.contentAttributes.of({ "aria-label": `The file ${props.file}` }),
          EditorView.lineWrapping,
          EditorView.updateListener.of((update) => {
            if (update.docChanged) changed.current(update.state.doc.toString());
          }),
          look,
        ],
      }),
    });
    view.current = made;
    return () => made.destroy();
    // One editor a file: its text is its own from then on.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [props.file]);
  useEffect(() => {
    const { current } = view;
    if (!current) return;
    const { doc } = current.state;
    const told = (kind: Diagnostic["severity"]) => (each: FileError) => {
      const line = doc.line(Math.min(Math.max(1, each.line), doc.lines));
      const from = Math.min(line.from + each.column - 1, line.to);
      const message = each.remedy ? `${each.what} (${each.remedy})` : each.what;
      return { from, to: Math.max(from, line.to), severity: kind, message };
    };
    const mine = (each: FileError) => each.file === props.file;
    const all = [
      ...props.errors.filter(mine).map(told("error")),
      ...props.warnings.filter(mine).map(told("warning")),
    ].sort((a, b) => a.from - b.from);
    current.dispatch(setDiagnostics(current.state, all));
  }, [props.file, props.errors, props.warnings]);
  return <div ref={place} style={{ height: "100%", minHeight: 0, overflow: "auto" }} />;
}
