// Words that someone types to narrow a list, kept in the address. What is typed is shown at once; the address follows when
// typing pauses, since a change of the address is drawn later than the next letter may come.
import { useEffect, useRef, useState } from 'react';
import { useSearch } from './useSearch';

/** How long typing pauses before the address is changed, in milliseconds. */
const PAUSE = 250;

export function useSearchWords(key: string): [string, (words: string) => void] {
  const [search, put] = useSearch();
  const named = search.get(key) ?? '';
  const [words, setWords] = useState(named);
  const written = useRef(named);
  const timer = useRef<number>(undefined);
  // The address was changed by something else: by going back, say.
  useEffect(() => {
    if (named === written.current) return;
    written.current = named;
    setWords(named);
  }, [named]);
  useEffect(() => () => window.clearTimeout(timer.current), []);
  const type = (next: string) => {
    setWords(next);
    window.clearTimeout(timer.current);
    timer.current = window.setTimeout(() => {
      written.current = next;
      put(key, next);
    }, PAUSE);
  };
  return [words, type];
}
