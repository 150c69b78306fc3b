// What someone types to find it in a log, as a pattern.

/** Text as a pattern that finds it anywhere; capitals only count where there are any. */
export function patternOf(text: string): string {
  const escaped = text.replace(/[.*+?^${}()|[\]\\]/g, '\\$&');
  return /\p{Lu}/u.test(text) ? escaped : `(?i)${escaped}`;
}

/** The same for lines that are at hand. */
export function lookFor(text: string): RegExp | undefined {
  if (text === '' || text.startsWith(':')) return undefined;
  const pattern = patternOf(text);
  return pattern.startsWith('(?i)') ? new RegExp(pattern.slice(4), 'giu') : new RegExp(pattern, 'gu');
}
