// The words of the address behind its question mark, put one by one. Each begins with what stands in the address then, not with
// what was drawn last: of two changes in one moment, or of a late one after typing, both hold.
import { useCallback, useRef } from 'react';
import { useSearchParams } from 'react-router';

/** Says a word anew; nothing, or an empty one, takes it out. */
export type Put = (key: string, value: string | string[] | undefined) => void;

export function useSearch(): [URLSearchParams, Put] {
  const [search, setSearch] = useSearchParams();
  const set = useRef(setSearch);
  set.current = setSearch;
  const put = useCallback<Put>((key, value) => {
    const next = new URLSearchParams(window.location.search);
    next.delete(key);
    for (const one of [value ?? []].flat()) if (one !== '') next.append(key, one);
    set.current(next, { replace: true });
  }, []);
  return [search, put];
}
