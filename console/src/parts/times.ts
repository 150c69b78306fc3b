// Moments as people read them: relative up to a day, then the date; exactly in the reader's own zone, or in UTC by choice.
import { useSyncExternalStore } from 'react';
import { age, two } from './words';

export type Zone = 'local' | 'utc';

const DAY = 24 * 60 * 60 * 1000;
const MONTHS = ['Jan', 'Feb', 'Mar', 'Apr', 'May', 'Jun', 'Jul', 'Aug', 'Sep', 'Oct', 'Nov', 'Dec'];

let chosen: Zone | undefined;
const listeners = new Set<() => void>();

/** What the reader chose; their own zone at first. */
export function zone(): Zone {
  chosen ??= globalThis.localStorage?.getItem('zone') === 'utc' ? 'utc' : 'local';
  return chosen;
}

export function setZone(next: Zone) {
  chosen = next;
  globalThis.localStorage?.setItem('zone', next);
  for (const tell of listeners) tell();
}

export function useZone(): Zone {
  return useSyncExternalStore((tell) => {
    listeners.add(tell);
    return () => listeners.delete(tell);
  }, zone);
}

/** A moment's parts in a zone: one where its numbers are read as if they were UTC's. */
function parts(at: Date, where: Zone): { on: Date; name: string } {
  if (where === 'utc') return { on: at, name: 'UTC' };
  const minutes = -at.getTimezoneOffset();
  const on = new Date(at.getTime() + minutes * 60_000);
  const size = Math.abs(minutes);
  return { on, name: `${minutes < 0 ? '−' : '+'}${two(Math.floor(size / 60))}:${two(size % 60)}` };
}

/** `2026-11-30 14:29:49 UTC`, or `2026-11-30 15:29:49 +01:00`. */
export function exact(text: string, where: Zone = zone()): string {
  const { on, name } = parts(new Date(text), where);
  return `${on.toISOString().replace('T', ' ').slice(0, 19)} ${name}`;
}

/** `28 Nov`, and the year where it is another one than now's. */
export function date(text: string, now: number, where: Zone = zone()): string {
  const { on } = parts(new Date(text), where);
  const { on: today } = parts(new Date(now), where);
  const year = on.getUTCFullYear() === today.getUTCFullYear() ? '' : ` ${on.getUTCFullYear()}`;
  return `${on.getUTCDate()} ${MONTHS[on.getUTCMonth()]}${year}`;
}

/** `41 s`, `14 min`, `3 h`; from a day on the date. */
export function since(text: string, now: number, where: Zone = zone()): string {
  const ms = now - new Date(text).getTime();
  return ms < DAY ? age(ms) : date(text, now, where);
}

/** The same within a sentence: `14 min ago`, `on 28 Nov`. */
export function ago(text: string, now: number, where: Zone = zone()): string {
  const ms = now - new Date(text).getTime();
  return ms < DAY ? `${age(ms)} ago` : `on ${date(text, now, where)}`;
}

const LENGTHS = { m: 60_000, h: 60 * 60_000, d: DAY, w: 7 * DAY };

/** `2h`, `3d`, or a moment such as `2026-11-30T16:00`, as a moment; nothing for nothing. What is neither is an error. */
export function until(text: string, now: number): string | undefined {
  const wanted = text.trim();
  if (wanted === '') return undefined;
  const length = /^(\d{1,4})\s*([mhdw])/.exec(wanted);
  const at = length ? now + Number(length[1]) * LENGTHS[length[2] as keyof typeof LENGTHS] : new Date(wanted).getTime();
  if (Number.isNaN(at))
    throw new Error(`“${wanted}” is no time: write 30m, 2h, 3d, or a moment such as 2026-11-30T16:00`);
  return new Date(at).toISOString();
}
