// What can be done on the page that is open: each with its name, and perhaps a key. Pages lay their acts out here; keys
// are heard in one place, and the palette and the list of keys show the same acts.
import { useEffect, useRef } from 'react';

export interface Act {
  name: string;
  /** One character as it is typed, or `Ctrl-K`. */
  key?: string;
  run: () => void;
  /** Something that only makes sense by its key: a step to the next row. */
  keyOnly?: boolean;
}

export interface ActGroup {
  title: string;
  acts: Act[];
}

let groups: { title: string; acts: () => Act[] }[] = [];

/** Lays acts out for as long as the page, or the part of it, is there. Of two with one key the later counts. */
export function useActs(title: string, acts: Act[]) {
  const newest = useRef(acts);
  newest.current = acts;
  useEffect(() => {
    const group = { title, acts: () => newest.current };
    groups = [...groups, group];
    return () => {
      groups = groups.filter((one) => one !== group);
    };
  }, [title]);
}

/** All that can be done now, the nearest first; groups of one title are one. */
export function allActs(): ActGroup[] {
  const found = new Map<string, Act[]>();
  for (const group of groups.toReversed()) found.set(group.title, [...(found.get(group.title) ?? []), ...group.acts()]);
  return [...found].map(([title, acts]) => ({ title, acts })).filter(({ acts }) => acts.length > 0);
}

interface Pressed {
  key: string;
  ctrlKey: boolean;
  metaKey: boolean;
  altKey: boolean;
}

/** The act that a key stands for among these groups. */
export function actOf(event: Pressed, among: ActGroup[]): Act | undefined {
  if (event.altKey) return undefined;
  const held = event.ctrlKey || event.metaKey;
  const wanted = held ? `Ctrl-${event.key.toUpperCase()}` : event.key;
  for (const group of among) {
    const act = group.acts.find((one) => one.key === wanted);
    if (act) return act;
  }
  return undefined;
}

/** Whether keys go into what has the focus. */
function isTyping(target: EventTarget | null): boolean {
  if (!(target instanceof HTMLElement)) return false;
  return ['INPUT', 'TEXTAREA', 'SELECT'].includes(target.tagName) || target.isContentEditable;
}

/** Hears keys for the whole page. While a dialog is open, or someone types, only keys with Ctrl count. */
export function useKeys() {
  useEffect(() => {
    const press = (event: KeyboardEvent) => {
      const busy =
        isTyping(event.target) || document.querySelector('dialog[open], .ant-modal-wrap:not([style*="none"])');
      if (busy && !(event.ctrlKey || event.metaKey)) return;
      const act = actOf(event, allActs());
      if (!act) return;
      event.preventDefault();
      act.run();
    };
    window.addEventListener('keydown', press);
    return () => window.removeEventListener('keydown', press);
  }, []);
}
