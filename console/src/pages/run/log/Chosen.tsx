// Lines that someone marked with the mouse, or that the address names: what they are copied as, and the link to them.
// Marking goes on over lines that are out of sight: the line where it began stays on the page until it is over.
import { useCallback, useEffect, useRef, useState } from 'react';
import { many } from '../../../parts/words';
import { type Chosen, copied, count, hashOf, ordered, type Place } from './chosen';
import type { Lines } from './lines';
import { plain } from './text';

/** More lines than this are better read as a file. */
const MOST_COPIED = 200_000;

/** The place of a point of the page in the log; nothing where it is in no line. */
function placeOf(node: Node | null, offset: number): Place | undefined {
  const element = node instanceof Element ? node : node?.parentElement;
  const line = element?.closest<HTMLElement>('[data-line]');
  const text = line?.querySelector('.x');
  if (!node || !line || !text) return undefined;
  const before = document.createRange();
  before.setStart(text, 0);
  // Before the text, as at a line's number: its beginning.
  if (text.compareDocumentPosition(node) & Node.DOCUMENT_POSITION_PRECEDING && !node.contains(text))
    before.collapse(true);
  else before.setEnd(node, offset);
  return { line: Number(line.dataset.line), column: before.toString().length };
}

export function useChosen(box: React.RefObject<HTMLElement | null>, lines: Lines, named: [number, number] | undefined) {
  const [marked, setMarked] = useState<Chosen>();
  const [pinned, setPinned] = useState<number>();
  const newest = useRef({ lines, marked });
  newest.current = { lines, marked };
  useEffect(() => {
    const changed = () => {
      const selection = document.getSelection();
      const inside = selection?.anchorNode && box.current?.contains(selection.anchorNode);
      if (!selection || selection.isCollapsed || !inside) {
        setMarked(undefined);
        setPinned(undefined);
        return;
      }
      const from = placeOf(selection.anchorNode, selection.anchorOffset);
      const to = placeOf(selection.focusNode, selection.focusOffset);
      setPinned(from?.line);
      if (from && to) setMarked(ordered(from, to));
    };
    document.addEventListener('selectionchange', changed);
    return () => document.removeEventListener('selectionchange', changed);
  }, [box]);
  useEffect(() => {
    const element = box.current;
    const copy = (event: ClipboardEvent) => {
      const { lines, marked } = newest.current;
      if (!marked || count(marked) < 2) return;
      event.preventDefault();
      const text = copied(marked, lines.line, undefined);
      if (text !== undefined) event.clipboardData?.setData('text/plain', text);
      else void toClipboard(lines, marked, undefined);
    };
    element?.addEventListener('copy', copy);
    return () => element?.removeEventListener('copy', copy);
  }, [box]);
  const last = named && lines.line(named[1]);
  const whole = named && {
    from: { line: named[0], column: 0 },
    to: { line: named[1], column: plain(last?.text ?? '').length },
  };
  const many = marked && count(marked) > 1 ? marked : undefined;
  return { chosen: many ?? whole, pinned, lines };
}

/** Reads what is not at hand, and copies it; gives what to say of it. */
async function toClipboard(lines: Lines, chosen: Chosen, began: number | undefined): Promise<string> {
  if (count(chosen) > MOST_COPIED) return 'too many lines to copy: open the raw log';
  try {
    let text = copied(chosen, lines.line, began);
    if (text === undefined) {
      const line = await lines.read(chosen.from.line, chosen.to.line);
      text = copied(chosen, line, began);
    }
    if (text === undefined) return 'some of these lines are not there';
    if (!navigator.clipboard) return 'this browser copies only over HTTPS: open the raw log';
    await navigator.clipboard.writeText(text);
    return `copied ${many(count(chosen), 'line')}`;
  } catch (error) {
    return error instanceof Error ? `not copied: ${error.message}` : 'not copied';
  }
}

export function ChosenBar({ chosen, lines, began }: { chosen: Chosen | undefined; lines: Lines; began: number }) {
  const [told, setTold] = useState('');
  const act = useCallback((done: Promise<string>) => void done.then(setTold), []);
  if (!chosen) return null;
  const link = () => {
    const url = new URL(window.location.href);
    url.hash = hashOf(chosen.from.line, chosen.to.line);
    if (!navigator.clipboard) return Promise.resolve(url.href);
    return navigator.clipboard.writeText(url.href).then(() => 'copied the link');
  };
  // What is marked must stay marked while a button is pressed.
  const keep = (event: React.MouseEvent) => event.preventDefault();
  return (
    <div className="chosen num" role="toolbar" aria-label="Chosen lines" onMouseDown={keep}>
      <span>{many(count(chosen), 'line')}</span>
      <button type="button" className="link" onClick={() => act(toClipboard(lines, chosen, undefined))}>
        Copy
      </button>
      <button type="button" className="link" onClick={() => act(toClipboard(lines, chosen, began))}>
        Copy with times
      </button>
      <button type="button" className="link" onClick={() => act(link())}>
        Link
      </button>
      <span className="soft" role="status">
        {told}
      </span>
    </div>
  );
}
