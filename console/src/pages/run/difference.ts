// What differs between two values: word by word, or of long ones line by line.
import { diffLines, diffWordsWithSpace } from 'diff';

export interface Piece {
  text: string;
  differs: boolean;
}

/** More than this is compared by lines, in characters; more than that not at all. */
const BY_WORDS = 4_000;
const AT_ALL = 200_000;

/** The pieces of each value. */
export function sides(first: string, second: string): [Piece[], Piece[]] {
  const long = first.length + second.length;
  if (long > AT_ALL) return [[{ text: first, differs: true }], [{ text: second, differs: true }]];
  const changes = long > BY_WORDS ? diffLines(first, second) : diffWordsWithSpace(first, second);
  const pieces = (skip: 'added' | 'removed', own: 'added' | 'removed') =>
    changes.filter((change) => !change[skip]).map((change) => ({ text: change.value, differs: Boolean(change[own]) }));
  return [pieces('added', 'removed'), pieces('removed', 'added')];
}
