// The editor: TOML with colours, completion from the language's schema, and diagnostics underlined where they are.
// The service counts columns in Unicode characters, the editor in UTF-16 units: `place` is the one place that converts.
import { autocompletion } from '@codemirror/autocomplete';
import { defaultKeymap, history, historyKeymap, indentWithTab } from '@codemirror/commands';
import { bracketMatching, HighlightStyle, StreamLanguage, syntaxHighlighting } from '@codemirror/language';
import { toml } from '@codemirror/legacy-modes/mode/toml';
import { lintGutter, setDiagnostics } from '@codemirror/lint';
import { highlightSelectionMatches, searchKeymap } from '@codemirror/search';
import { EditorState, type Text } from '@codemirror/state';
import { drawSelection, EditorView, highlightActiveLine, keymap, lineNumbers } from '@codemirror/view';
import { tags } from '@lezer/highlight';
import { useQuery } from '@tanstack/react-query';
import { useEffect, useRef } from 'react';
import { answered, api, type Schemas } from '../../api/client';
import { nonce } from '../../look/nonce';
import { complete, type Schema } from './complete';

const colours = HighlightStyle.define([
  { tag: tags.propertyName, color: 'var(--ink)' },
  { tag: tags.string, color: 'var(--accent)' },
  { tag: [tags.number, tags.bool, tags.atom], color: 'var(--running)' },
  { tag: tags.comment, color: 'var(--soft)', fontStyle: 'italic' },
  { tag: [tags.bracket, tags.heading, tags.keyword], color: 'var(--ink)', fontWeight: '600' },
]);

const look = EditorView.theme({
  '&': { height: '100%', backgroundColor: 'var(--panel)', color: 'var(--ink)' },
  '.cm-gutters': { backgroundColor: 'var(--ground)', color: 'var(--soft)', borderRight: '1px solid var(--rule)' },
  '.cm-activeLine, .cm-activeLineGutter': { backgroundColor: 'transparent' },
  '.cm-cursor': { borderLeftColor: 'var(--ink)' },
  '&.cm-focused': { outline: '2px solid var(--accent)', outlineOffset: '-2px' },
  '.cm-tooltip': { backgroundColor: 'var(--panel)', color: 'var(--ink)', border: '1px solid var(--rule)' },
  '.cm-tooltip-autocomplete ul li[aria-selected]': { backgroundColor: 'var(--accent)', color: 'var(--ground)' },
});

export function Editor({
  rules,
  text,
  onText,
  onView,
  diagnostics,
  at,
}: {
  /** It is a project's rules, and no pipeline. */
  rules: boolean;
  text: string;
  onText: (text: string) => void;
  /** The editor itself, once it is there: what changes the text from elsewhere goes through it. */
  onView: (view: EditorView | null) => void;
  diagnostics: Schemas['DiagnosticView'][];
  /** Where the cursor stands at first. */
  at?: { line: number; column: number };
}) {
  const place = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView>(null);
  const schema = useRef<Schema>(undefined);
  const told = useRef(onText);
  told.current = onText;
  const begin = useRef(text);
  const begins = useRef(at);
  const { data } = useQuery({
    queryKey: ['schema', rules],
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: () => answered(api.GET('/api/v1/schema', { params: { query: { rules } } })),
  });
  schema.current = data as Schema | undefined;
  useEffect(() => {
    if (!place.current) return;
    const made = new EditorView({
      parent: place.current,
      state: EditorState.create({
        doc: begin.current,
        extensions: [
          lineNumbers(),
          history(),
          drawSelection(),
          bracketMatching(),
          highlightActiveLine(),
          highlightSelectionMatches(),
          lintGutter(),
          StreamLanguage.define(toml),
          syntaxHighlighting(colours),
          look,
          EditorView.cspNonce.of(nonce ?? ''),
          autocompletion({ override: [(context) => complete(context, schema.current)] }),
          keymap.of([...defaultKeymap, ...historyKeymap, ...searchKeymap, indentWithTab]),
          // It can be focused as it is; said so, programs that read pages know that its long lines can be gone along.
          EditorView.contentAttributes.of({ 'aria-label': 'Pipeline file', tabindex: '0' }),
          EditorView.updateListener.of((update) => {
            if (update.docChanged) told.current(update.state.doc.toString());
          }),
        ],
      }),
    });
    view.current = made;
    onView(made);
    if (begins.current) {
      const anchor = offset(made.state.doc, begins.current.line, begins.current.column);
      made.dispatch({ selection: { anchor }, effects: EditorView.scrollIntoView(anchor, { y: 'center' }) });
      made.focus();
    }
    return () => {
      onView(null);
      made.destroy();
    };
  }, [onView]);
  useEffect(() => {
    const editor = view.current;
    if (!editor) return;
    const doc = editor.state.doc;
    const found = diagnostics.map((one) => {
      const from = offset(doc, one.line, one.column);
      const to = Math.max(from, offset(doc, one.end_line, one.end_column));
      const severity = one.severity === 'note' ? ('info' as const) : one.severity;
      return { from, to, severity, message: one.hint ? `${one.message}\n${one.hint}` : one.message };
    });
    editor.dispatch(setDiagnostics(editor.state, found));
  }, [diagnostics]);
  return <div className="draft-editor" ref={place} />;
}

/** A place as the service tells it → the editor's offset, however the text has changed meanwhile. */
export function offset(doc: Text, line: number, column: number): number {
  if (line > doc.lines) return doc.length;
  const { from, text } = doc.line(Math.max(line, 1));
  const before = [...text].slice(0, column - 1).join('');
  return from + before.length;
}
