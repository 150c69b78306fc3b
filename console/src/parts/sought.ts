// How well a name answers words that someone typed to find it; the same rule as the service's.

/** Smaller is better; nothing where a word does not stand in the name at all. */
export function rank(words: string, name: string): number | undefined {
  const lower = name.toLowerCase();
  let sum = 0;
  for (const word of words.toLowerCase().split(/\s+/).filter(Boolean)) {
    const found = rankOfWord(word, lower);
    if (found === undefined) return undefined;
    sum += found;
  }
  return sum;
}

function rankOfWord(word: string, name: string): number | undefined {
  if (word === name) return 0;
  let best: number | undefined;
  for (let at = name.indexOf(word); at >= 0; at = name.indexOf(word, at + 1)) {
    const before = name[at - 1];
    const worth = before === undefined ? 1 : /[\p{L}\p{N}]/u.test(before) ? 3 : 2;
    best = Math.min(best ?? worth, worth);
  }
  return best;
}

/** The best of many, best first, and among equals the shorter name; without words all as they stand. */
export function best<T>(words: string, all: T[], name: (one: T) => string, most: number): T[] {
  if (words.trim() === '') return all.slice(0, most);
  return all
    .map((one) => ({ one, worth: rank(words, name(one)), length: name(one).length }))
    .filter((one) => one.worth !== undefined)
    .sort((a, b) => (a.worth ?? 0) - (b.worth ?? 0) || a.length - b.length)
    .slice(0, most)
    .map(({ one }) => one);
}
