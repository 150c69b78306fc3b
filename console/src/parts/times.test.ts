import { afterEach, expect, test } from 'vitest';
import { ago, date, exact, since, until } from './times';

const zone = process.env.TZ;
afterEach(() => {
  process.env.TZ = zone;
});

test('the exact time stands in the reader’s own zone with its distance, or in UTC', () => {
  const at = '2026-11-30T14:29:49Z';
  expect(exact(at, 'utc')).toBe('2026-11-30 14:29:49 UTC');
  const cases: [string, string][] = [
    ['Europe/Oslo', '2026-11-30 15:29:49 +01:00'],
    ['America/St_Johns', '2026-11-30 10:59:49 −03:30'],
    ['Asia/Kathmandu', '2026-11-30 20:14:49 +05:45'],
    ['Pacific/Kiritimati', '2026-12-01 04:29:49 +14:00'],
  ];
  for (const [name, words] of cases) {
    process.env.TZ = name;
    expect(exact(at, 'local'), name).toBe(words);
  }
  // Summer has another distance.
  process.env.TZ = 'Europe/Oslo';
  expect(exact('2026-07-01T12:00:00Z', 'local')).toBe('2026-07-01 14:00:00 +02:00');
});

test('moments are relative up to a day, then dates', () => {
  const now = Date.parse('2026-11-30T12:00:00Z');
  expect(since('2026-11-30T11:59:19Z', now, 'utc')).toBe('41 s');
  expect(since('2026-11-29T12:00:01Z', now, 'utc')).toBe('23 h');
  expect(since('2026-11-29T12:00:00Z', now, 'utc')).toBe('29 Nov');
  expect(since('2025-12-31T23:00:00Z', now, 'utc')).toBe('31 Dec 2025');
  expect(ago('2026-11-30T11:46:00Z', now, 'utc')).toBe('14 min ago');
  expect(ago('2026-11-02T11:46:00Z', now, 'utc')).toBe('on 2 Nov');
  // A clock that is a little ahead tells no moment of the future.
  expect(since('2026-11-30T12:00:05Z', now, 'utc')).toBe('0 s');
});

test('a date is the reader’s, not the one in Greenwich', () => {
  process.env.TZ = 'Pacific/Kiritimati';
  expect(date('2026-11-28T20:00:00Z', Date.parse('2026-11-30T12:00:00Z'), 'local')).toBe('29 Nov');
  expect(date('2026-12-31T20:00:00Z', Date.parse('2027-01-05T12:00:00Z'), 'local')).toBe('1 Jan');
});

test('a length or a moment is when it is over', () => {
  const now = Date.parse('2026-11-30T12:00:00Z');
  expect(until('', now)).toBeUndefined();
  expect(until(' 2h ', now)).toBe('2026-11-30T14:00:00.000Z');
  expect(until('3 days', now)).toBe('2026-12-03T12:00:00.000Z');
  expect(until('2026-12-24T16:00:00Z', now)).toBe('2026-12-24T16:00:00.000Z');
  expect(() => until('soon', now)).toThrow('write 30m, 2h');
});
