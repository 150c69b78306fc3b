// Where the focus goes when the page changes: to the new page's top; and when one goes back, to where it was.
import { useEffect, useLayoutEffect, useRef } from 'react';
import { useLocation, useNavigationType } from 'react-router';

/** By the history's entry: what had the focus when it was left. */
const left = new Map<string, string>();
/** How long a page may take until what had the focus is there again, in milliseconds. */
const PATIENCE = 3_000;

/** What finds an element again on the same page. */
function nameOf(element: Element | null): string | undefined {
  if (!element || element === document.body || element.tagName === 'MAIN') return undefined;
  if (element.id) return `#${CSS.escape(element.id)}`;
  const tag = element.tagName.toLowerCase();
  for (const key of ['data-row', 'href', 'aria-label', 'name']) {
    const value = element.getAttribute(key);
    if (value) return `${tag}[${key}="${CSS.escape(value)}"]`;
  }
  return undefined;
}

/** Calls back once an element is there; gives what ends the wait. */
function whenThere(name: string, found: (element: HTMLElement) => void): () => void {
  const look = () => {
    const element = document.querySelector<HTMLElement>(`main ${name}`);
    if (!element) return false;
    end();
    found(element);
    return true;
  };
  const watch = new MutationObserver(look);
  const timer = window.setTimeout(() => watch.disconnect(), PATIENCE);
  const end = () => {
    window.clearTimeout(timer);
    watch.disconnect();
  };
  if (!look()) watch.observe(document.body, { childList: true, subtree: true });
  return end;
}

export function useFocusOfPage() {
  const { key, pathname } = useLocation();
  const way = useNavigationType();
  const before = useRef({ key, pathname });
  // What has the focus is noted while it has: once the page is another one, nothing has it any more.
  useEffect(() => {
    const note = () => {
      const name = nameOf(document.activeElement);
      if (name) left.set(key, name);
    };
    document.addEventListener('focusin', note);
    return () => document.removeEventListener('focusin', note);
  }, [key]);
  useLayoutEffect(() => {
    const changed = before.current.key !== key;
    const other = before.current.pathname !== pathname;
    before.current = { key, pathname };
    if (!changed || way === 'REPLACE') return;
    const name = left.get(key);
    if (way === 'POP' && name) return whenThere(name, (element) => element.focus());
    // To the top of another page, so that reading goes on there, unless the page itself takes the focus.
    if (other && !document.querySelector('main :focus')) document.querySelector('main')?.focus();
  }, [key, pathname, way]);
}
