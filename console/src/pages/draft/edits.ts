// Changes by what they mean: the service writes the text, the editor takes it as one change, and so undo goes over both.

import { redo, undo } from '@codemirror/commands';
import type { EditorView } from '@codemirror/view';
import { answered, api } from '../../api/client';
import { say, wordsOf } from '../../parts/said';
import type { Edit } from './picture/Picture';

/** The part of a text that another one does not have in common with it: what stands before and behind it stays. */
export function change(before: string, now: string): { from: number; to: number; insert: string } | undefined {
  if (before === now) return undefined;
  const most = Math.min(before.length, now.length);
  let head = 0;
  while (head < most && before[head] === now[head]) head += 1;
  let tail = 0;
  while (tail < most - head && before[before.length - 1 - tail] === now[now.length - 1 - tail]) tail += 1;
  return { from: head, to: before.length - tail, insert: now.slice(head, now.length - tail) };
}

/** Makes a change; false, and told, where it cannot be made, or the text has become another one meanwhile. */
export async function edit(view: EditorView, wanted: Edit): Promise<boolean> {
  const text = view.state.doc.toString();
  try {
    const edited = await answered(api.POST('/api/v1/edited-file', { body: { text, edit: wanted } }));
    if (view.state.doc.toString() !== text) throw new Error('the text was changed meanwhile; do it once more');
    const changes = change(text, edited.text);
    if (changes) view.dispatch({ changes, userEvent: 'input.picture' });
    say(undefined);
    return true;
  } catch (error) {
    say({ words: wordsOf(error), wrong: true });
    return false;
  }
}

export const takeBack = (view: EditorView | null) => view && undo(view);
export const doAgain = (view: EditorView | null) => view && redo(view);
