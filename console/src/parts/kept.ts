// A choice of how one likes to look at things, kept in this browser.
import { useState } from 'react';

export function useKept<T extends string | number | boolean>(name: string, usual: T): [T, (next: T) => void] {
  const [value, setValue] = useState<T>(() => read(name, usual));
  const set = (next: T) => {
    setValue(next);
    localStorage.setItem(name, JSON.stringify(next));
  };
  return [value, set];
}

/** What was kept, where it is of the same kind as usual. */
export function read<T>(name: string, usual: T, from: Pick<Storage, 'getItem'> = localStorage): T {
  try {
    const found: unknown = JSON.parse(from.getItem(name) ?? 'null');
    return typeof found === typeof usual ? (found as T) : usual;
  } catch {
    return usual;
  }
}
