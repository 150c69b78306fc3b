// What was done last, in words, with the way back where there is one. It stands below every page, also after one has gone on.
import { useSyncExternalStore } from 'react';

export interface Said {
  words: string;
  wrong?: boolean;
  /** Takes it back. What cannot be taken back has none. */
  undo?: () => Promise<unknown>;
}

let last: Said | undefined;
const watchers = new Set<() => void>();

export function say(said: Said | undefined) {
  last = said;
  for (const tell of watchers) tell();
}

export function useSaid(): Said | undefined {
  return useSyncExternalStore(
    (tell) => {
      watchers.add(tell);
      return () => watchers.delete(tell);
    },
    () => last,
  );
}

/** Takes back what was done last; says so, or why it could not be. */
export async function undo(): Promise<void> {
  const before = last;
  if (!before?.undo) return;
  say({ words: 'Taking it back…' });
  try {
    await before.undo();
    say({ words: 'Taken back.' });
  } catch (error) {
    say({ words: `It could not be taken back: ${wordsOf(error)}`, wrong: true });
  }
}

export const wordsOf = (error: unknown) =>
  error instanceof Error ? error.message : 'the service could not be reached';
