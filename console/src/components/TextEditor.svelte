<script lang="ts">
  import { yaml } from "@codemirror/lang-yaml";
  import { HighlightStyle, syntaxHighlighting } from "@codemirror/language";
  import { isolateHistory, redo as redoEdit, undo as undoEdit } from "@codemirror/commands";
  import { tags } from "@lezer/highlight";
  import { lintGutter, setDiagnostics, type Diagnostic } from "@codemirror/lint";
  import type { CompletionContext } from "@codemirror/autocomplete";
  import { EditorState } from "@codemirror/state";
  import { basicSetup, EditorView } from "codemirror";
  import { untrack } from "svelte";
  import type { Problem } from "../lib/api";
  import type { Offer } from "../lib/complete";

  let {
    text,
    marks,
    line,
    onedit,
    label,
    offers = () => [],
    oncursor,
  }: {
    text: string;
    marks: (Problem & { severity: "error" | "warning" | "info" })[];
    line: number;
    onedit: (text: string) => void;
    label: string;
    offers?: (before: string) => Offer[];
    oncursor?: (line: number) => void; // the cursor was put into a line
  } = $props();

  let view = $state.raw<EditorView | undefined>();

  /** Takes the last edit back, wherever it was made. */
  export function undo() {
    if (view) undoEdit(view);
  }
  export function redo() {
    if (view) redoEdit(view);
  }

  const look = EditorView.theme({
    "&": {
      height: "100%",
      fontSize: "12.5px",
      backgroundColor: "var(--cds-ui-background)",
      color: "var(--cds-text-01)",
    },
    ".cm-scroller": { fontFamily: "'IBM Plex Mono', monospace" },
    ".cm-gutters": { backgroundColor: "var(--cds-ui-01)", color: "var(--cds-text-02)", border: "none" },
    ".cm-activeLine, .cm-activeLineGutter": { backgroundColor: "var(--cds-hover-ui)" },
    ".cm-cursor": { borderLeftColor: "var(--cds-text-01)" },
    "&.cm-focused .cm-selectionBackground, .cm-selectionBackground": {
      backgroundColor: "var(--cds-highlight, #a6c8ff) !important",
    },
    ".cm-tooltip": { backgroundColor: "var(--cds-ui-01)", color: "var(--cds-text-01)" },
  });

  const colours = syntaxHighlighting(
    HighlightStyle.define([
      { tag: [tags.propertyName, tags.definition(tags.propertyName)], color: "var(--code-key)" },
      { tag: tags.string, color: "var(--code-text)" },
      { tag: tags.comment, color: "var(--code-comment)", fontStyle: "italic" },
      { tag: [tags.number, tags.bool, tags.null, tags.keyword, tags.meta], color: "var(--code-number)" },
    ]),
  );

  function complete(at: CompletionContext) {
    const found = offers(at.state.doc.sliceString(0, at.pos));
    const word = at.matchBefore(/[\w-]*/);
    if (found.length === 0 || !word || (word.from === word.to && !at.explicit)) return null;
    return { from: word.from, options: found, validFor: /^[\w-]*$/ };
  }

  function attach(parent: HTMLElement) {
    const made = new EditorView({
      parent,
      doc: untrack(() => text),
      extensions: [
        basicSetup,
        yaml(),
        lintGutter(),
        EditorState.languageData.of(() => [{ autocomplete: complete }]),
        look,
        colours,
        EditorView.contentAttributes.of({ "aria-label": untrack(() => label) }),
        EditorView.updateListener.of((u) => {
          if (u.docChanged) onedit(u.state.doc.toString());
          else if (u.transactions.some((t) => t.isUserEvent("select")))
            oncursor?.(u.state.doc.lineAt(u.state.selection.main.head).number);
        }),
      ],
    });
    made.scrollDOM.tabIndex = 0; // what scrolls is reached by keyboard
    view = made;
    return () => made.destroy();
  }

  $effect(() => {
    if (!view) return;
    const now = view.state.doc.toString();
    if (text === now) return;
    // Only what differs is replaced, so that the cursor and the place shown stay.
    const most = Math.min(now.length, text.length);
    let [start, end] = [0, 0];
    while (start < most && now[start] === text[start]) start++;
    while (end < most - start && now[now.length - 1 - end] === text[text.length - 1 - end]) end++;
    view.dispatch({
      changes: { from: start, to: now.length - end, insert: text.slice(start, text.length - end) },
      annotations: isolateHistory.of("full"),
    });
  });

  $effect(() => {
    if (!view) return;
    const doc = view.state.doc;
    const diagnostics: Diagnostic[] = marks.map((m) => {
      const at = doc.line(Math.min(Math.max(m.line, 1), doc.lines));
      const from = Math.min(at.from + Math.max(m.column - 1, 0), at.to);
      return { from, to: Math.max(from, at.to), severity: m.severity, message: m.message };
    });
    view.dispatch(setDiagnostics(view.state, diagnostics));
  });

  $effect(() => {
    if (!view || line < 1) return;
    const at = view.state.doc.line(Math.min(line, view.state.doc.lines));
    view.dispatch({ selection: { anchor: at.from }, effects: EditorView.scrollIntoView(at.from, { y: "center" }) });
  });
</script>

<div class="editor" {@attach attach}></div>

<style>
  .editor {
    height: 100%;
    overflow: hidden;
  }
</style>
