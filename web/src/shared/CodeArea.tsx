import {
  autocompletion,
  type CompletionContext,
  type CompletionSource,
  completionKeymap,
} from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap } from "@codemirror/commands";
import { html, htmlCompletionSource } from "@codemirror/lang-html";
import { markdown } from "@codemirror/lang-markdown";
import { bracketMatching, HighlightStyle, syntaxHighlighting } from "@codemirror/language";
import { type Diagnostic, setDiagnostics } from "@codemirror/lint";
import { Compartment, EditorState } from "@codemirror/state";
import { tags } from "@lezer/highlight";
import { drawSelection, EditorView, keymap, lineNumbers } from "@codemirror/view";
import { type Ref, useEffect, useId, useImperativeHandle, useRef, useState } from "react";

/** What is wrong in a line, as the message check says it. */
export type LineNote = { line: number; level: "error" | "warning" | "info"; words: string };

/** What others do to the source that is being edited. */
export type CodeHandle = {
  /** Puts source where the cursor is, in place of what is selected. */
  put: (source: string) => void;
  selected: () => string;
  toLine: (line: number) => void;
};

export type CodeProps = {
  label: string;
  /** Lines that are always seen. */
  rows: number;
  language: "html" | "markdown" | "text";
  value: string;
  onChange: (v: string) => void;
  /** Placeholders, completed after two braces. */
  names: string[];
  notes?: LineNote[];
  handle?: Ref<CodeHandle>;
};

const BEGUN = /\{\{\s*\w*$/;

/** The placeholders that fit what was begun after two braces, closed where that is missing. */
function placeholders(names: () => string[]): CompletionSource {
  return (context: CompletionContext) => {
    const begun = context.matchBefore(BEGUN);
    if (!begun) return null;
    const from = begun.from + /^\{\{\s*/.exec(begun.text)![0].length;
    const closed = /^\s*(\||\}\})/.test(context.state.sliceDoc(context.pos, context.pos + 20));
    return {
      from,
      validFor: /^\w*$/,
      options: names().map((n) => ({ label: n, apply: closed ? n : `${n} }}`, type: "variable" })),
    };
  };
}

const LOOK = EditorView.theme({
  "&": {
    background: "var(--sheet)",
    color: "var(--ink)",
    border: "1px solid var(--rule)",
    borderRadius: "3px",
    fontSize: "13px",
  },
  "&.cm-focused": { outline: "2px solid var(--deep)" },
  ".cm-content": { fontFamily: "ui-monospace, monospace", caretColor: "var(--ink)", padding: "8px 0" },
  ".cm-gutters": { background: "var(--mist)", color: "var(--soft)", border: "none" },
  ".cm-cursor": { borderLeftColor: "var(--ink)" },
  ".cm-tooltip": { background: "var(--sheet)", color: "var(--ink)", border: "1px solid var(--rule)" },
  ".cm-tooltip-autocomplete ul li[aria-selected]": { background: "var(--deep)", color: "var(--on-deep)" },
  "&.cm-focused .cm-selectionBackground, .cm-selectionBackground": { background: "var(--deep-wash) !important" },
});

const COLOURS = HighlightStyle.define([
  { tag: [tags.tagName, tags.angleBracket], color: "var(--deep)" },
  { tag: tags.attributeName, color: "var(--a)" },
  { tag: [tags.attributeValue, tags.string], color: "var(--ochre)" },
  { tag: [tags.url, tags.link], color: "var(--a)" },
  { tag: tags.heading, fontWeight: "600" },
  { tag: tags.strong, fontWeight: "600" },
  { tag: tags.emphasis, fontStyle: "italic" },
  { tag: [tags.comment, tags.processingInstruction], color: "var(--soft)" },
]);

/** Source with its language's colours, placeholders completed, and what the check found marked where it stands. */
export default function CodeArea({ label, rows, language, value, onChange, names, notes, handle }: CodeProps) {
  const id = useId();
  const host = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const now = useRef({ onChange, names });
  const [tongue] = useState(() => new Compartment());
  useEffect(() => {
    now.current = { onChange, names };
  }, [onChange, names]);
  useEffect(() => {
    const made = new EditorView({
      parent: host.current!,
      state: EditorState.create({
        doc: value,
        extensions: [
          lineNumbers(),
          history(),
          drawSelection(),
          bracketMatching(),
          syntaxHighlighting(COLOURS),
          autocompletion({ override: [placeholders(() => now.current.names), htmlCompletionSource] }),
          keymap.of([...completionKeymap, ...defaultKeymap, ...historyKeymap]),
          EditorView.lineWrapping,
          EditorView.contentAttributes.of({ "aria-labelledby": id, spellcheck: "false" }),
          EditorView.updateListener.of((u) => u.docChanged && now.current.onChange(u.state.doc.toString())),
          tongue.of([]),
          LOOK,
        ],
      }),
    });
    view.current = made;
    return () => made.destroy();
    // Made once: what changes later is told to it below.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, []);
  useEffect(() => {
    const of = language === "html" ? html({ autoCloseTags: false }) : language === "markdown" ? markdown() : [];
    view.current?.dispatch({ effects: tongue.reconfigure(of) });
  }, [language, tongue]);
  useEffect(() => {
    const v = view.current;
    if (v && v.state.doc.toString() !== value)
      v.dispatch({ changes: { from: 0, to: v.state.doc.length, insert: value } });
  }, [value]);
  useEffect(() => {
    const v = view.current;
    if (!v) return;
    const found = (notes ?? [])
      .filter((n) => n.line >= 1 && n.line <= v.state.doc.lines)
      .map((n): Diagnostic => {
        const { from, to } = v.state.doc.line(n.line);
        return { from, to, severity: n.level, message: n.words };
      });
    v.dispatch(setDiagnostics(v.state, found));
  }, [notes]);
  useImperativeHandle(handle, () => ({
    put: (source) => {
      const v = view.current;
      v?.dispatch(v.state.replaceSelection(source));
      v?.focus();
    },
    selected: () => {
      const v = view.current;
      return v ? v.state.sliceDoc(v.state.selection.main.from, v.state.selection.main.to) : "";
    },
    toLine: (n) => {
      const v = view.current;
      if (!v) return;
      const { from, to } = v.state.doc.line(Math.min(n, v.state.doc.lines));
      v.dispatch({ selection: { anchor: from, head: to }, scrollIntoView: true });
      v.focus();
    },
  }));
  return (
    <>
      <label className="small soft" style={{ display: "block" }} id={id} onClick={() => view.current?.focus()}>
        {label}
      </label>
      <div ref={host} className="code" style={{ "--rows": rows } as React.CSSProperties} />
    </>
  );
}
