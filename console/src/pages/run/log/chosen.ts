// Lines that someone chose: named in the address (`#L120`, `#L120-L135`), or marked with the mouse; and what of them is
// copied.
import { plain } from './text';

/** A place in a log: a line, counted from 0, and how many characters of its text stand before it. */
export interface Place {
  line: number;
  column: number;
}

/** From a place up to another; the first is never after the second. */
export interface Chosen {
  from: Place;
  to: Place;
}

/** The lines that an address names, counted from 0; the first is never after the last. */
export function linesOf(hash: string): [number, number] | undefined {
  const found = /^#L(\d{1,9})(?:-L(\d{1,9}))?$/.exec(hash);
  if (!found) return undefined;
  const first = Number(found[1]) - 1;
  const last = found[2] === undefined ? first : Number(found[2]) - 1;
  return first < 0 || last < 0 ? undefined : [Math.min(first, last), Math.max(first, last)];
}

export const hashOf = (first: number, last: number) =>
  first === last ? `#L${first + 1}` : `#L${first + 1}-L${last + 1}`;

/** Two places in their order. */
export function ordered(one: Place, other: Place): Chosen {
  const before = one.line < other.line || (one.line === other.line && one.column <= other.column);
  return before ? { from: one, to: other } : { from: other, to: one };
}

/** How many lines are chosen. */
export const count = ({ from, to }: Chosen) => to.line - from.line + 1;

/** Since the job began: 0.42, 12.3, 1:05, 1:02:33. */
export function clock(ms: number): string {
  const seconds = Math.max(0, ms) / 1000;
  if (seconds < 10) return seconds.toFixed(2);
  if (seconds < 60) return seconds.toFixed(1);
  const two = (value: number) => String(Math.floor(value)).padStart(2, '0');
  const minutes = Math.floor(seconds / 60);
  if (minutes < 60) return `${minutes}:${two(seconds % 60)}`;
  return `${Math.floor(minutes / 60)}:${two(minutes % 60)}:${two(seconds % 60)}`;
}

/**
 * The text of what is chosen, without colours; with times each whole line has its own before it. Nothing where a line is
 * not at hand.
 */
export function copied(
  chosen: Chosen,
  line: (number: number) => { text: string; at: number } | undefined,
  began: number | undefined,
): string | undefined {
  const out: string[] = [];
  for (let number = chosen.from.line; number <= chosen.to.line; number += 1) {
    const known = line(number);
    if (!known) return undefined;
    const text = plain(known.text);
    const end = number === chosen.to.line ? chosen.to.column : text.length;
    const begin = number === chosen.from.line ? chosen.from.column : 0;
    const time = began === undefined ? '' : `${clock(known.at - began).padStart(8)}  `;
    out.push(`${time}${text.slice(began === undefined ? begin : 0, began === undefined ? end : text.length)}`);
  }
  return out.join('\n');
}
