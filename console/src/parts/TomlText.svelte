<!-- The text of a procedure: TOML, with what is wrong with it where it is. -->
<script lang="ts">
  import { defaultKeymap, history, historyKeymap, redo, undo } from '@codemirror/commands';
  import { HighlightStyle, StreamLanguage, syntaxHighlighting } from '@codemirror/language';
  import { toml } from '@codemirror/legacy-modes/mode/toml';
  import { lintGutter, setDiagnostics, type Diagnostic } from '@codemirror/lint';
  import { EditorState } from '@codemirror/state';
  import { EditorView, drawSelection, highlightActiveLine, keymap, lineNumbers } from '@codemirror/view';
  import { tags } from '@lezer/highlight';
  import { onMount, untrack } from 'svelte';

  import type { Schemas } from '../lib/api';
  import { heads } from '../lib/step-keys';

  let { text, faults, step, ontype, onstep }: { text: string; faults: Schemas['Fault'][]; step: number | null; ontype: (text: string) => void; onstep: (line: number) => void } = $props();

  let place: HTMLDivElement;
  let view: EditorView | undefined;
  let isOurs = false;

  const colours = HighlightStyle.define([
    { tag: tags.comment, color: 'var(--ink3)', fontStyle: 'italic' },
    { tag: tags.string, color: 'var(--proven)' },
    { tag: [tags.number, tags.bool, tags.atom], color: 'var(--moving)' },
    { tag: [tags.propertyName, tags.definition(tags.propertyName)], color: 'var(--ink)' },
    { tag: [tags.heading, tags.bracket, tags.squareBracket, tags.atom], color: 'var(--accent)' },
  ]);
  const look = EditorView.theme({
    '&': { height: '100%', backgroundColor: 'var(--sheet)', color: 'var(--ink)', fontSize: '13px' },
    '.cm-scroller': { fontFamily: 'var(--font-mono)', lineHeight: '1.5' },
    '.cm-gutters': { backgroundColor: 'var(--sheet)', color: 'var(--ink3)', borderRight: '1px solid var(--line2)' },
    '.cm-activeLine': { backgroundColor: 'color-mix(in srgb, var(--accent-soft) 45%, transparent)' },
    '.cm-cursor': { borderLeftColor: 'var(--ink)' },
    '&.cm-focused': { outline: '2px solid var(--accent)', outlineOffset: '-2px' },
    '.cm-selectionBackground, &.cm-focused .cm-selectionBackground': { backgroundColor: 'var(--accent-soft) !important' },
    '.cm-lint-marker': { width: '0.8em' },
    '.cm-tooltip': { backgroundColor: 'var(--sheet)', color: 'var(--ink)', border: '1px solid var(--line)' },
  });

  onMount(() => {
    const told = EditorView.updateListener.of((update) => {
      if (update.docChanged && !isOurs) ontype(update.state.doc.toString());
      if ((update.selectionSet || update.docChanged) && update.view.hasFocus && !isOurs) {
        const at = update.state.selection.main.head;
        const before = heads(update.state.doc.sliceString(0, at + 1)).length;
        // In the line of a head the match may end behind the cursor.
        const line = update.state.doc.lineAt(at);
        onstep(Math.max(before, heads(update.state.doc.sliceString(0, line.to)).length));
      }
    });
    view = new EditorView({
      parent: place,
      state: EditorState.create({
        doc: text,
        extensions: [lineNumbers(), lintGutter(), history(), drawSelection(), highlightActiveLine(), StreamLanguage.define(toml), syntaxHighlighting(colours), keymap.of([...defaultKeymap, ...historyKeymap]), EditorView.contentAttributes.of({ 'aria-label': 'TOML text' }), look, told],
      }),
    });
    return () => view?.destroy();
  });

  // What the server made of it: only what differs is put in, so that cursor and place stay.
  $effect(() => {
    const [next, found] = [text, faults];
    untrack(() => {
      if (!view) return;
      const now = view.state.doc.toString();
      isOurs = true;
      if (now !== next) {
        let from = 0;
        const most = Math.min(now.length, next.length);
        while (from < most && now.charCodeAt(from) === next.charCodeAt(from)) from += 1;
        let tail = 0;
        while (tail < most - from && now.charCodeAt(now.length - 1 - tail) === next.charCodeAt(next.length - 1 - tail)) tail += 1;
        view.dispatch({ changes: { from, to: now.length - tail, insert: next.slice(from, next.length - tail) } });
      }
      const doc = view.state.doc;
      const diagnostics: Diagnostic[] = found
        .filter((f) => f.line > 0)
        .map((f) => {
          const line = doc.line(Math.min(f.line, doc.lines));
          return { from: Math.min(line.from + Math.max(0, f.column - 1), line.to), to: line.to, severity: f.severity, message: `${f.message}\n${f.mend}` };
        });
      view.dispatch(setDiagnostics(view.state, diagnostics));
      isOurs = false;
    });
  });

  // The step chosen elsewhere comes into view.
  $effect(() => {
    const line = step;
    untrack(() => {
      if (!view || view.hasFocus || line === null) return;
      const at = heads(view.state.doc.toString())[line - 1] ?? 0;
      isOurs = true;
      view.dispatch({ selection: { anchor: at }, effects: EditorView.scrollIntoView(at, { y: 'start', yMargin: 24 }) });
      isOurs = false;
    });
  });

  export function back(): void {
    if (view) undo(view);
  }
  export function forth(): void {
    if (view) redo(view);
  }
</script>

<div bind:this={place} class="h-full min-h-0 overflow-hidden"></div>
