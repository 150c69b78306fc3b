import { expect, test } from 'vitest';
import { age, bytes, cutMiddle, duration, many, took } from './words';

test('durations have one or two units', () => {
  const cases: [number, string][] = [
    [-5, '0 ms'],
    [0.4, '0 ms'],
    [999, '999 ms'],
    [1000, '1.0 s'],
    [9949, '9.9 s'],
    [9950, '10 s'],
    [59_499, '59 s'],
    [60_000, '1 m 00 s'],
    [110_000, '1 m 50 s'],
    [3_599_600, '1 h 00 m'],
    [7_440_000, '2 h 04 m'],
  ];
  for (const [ms, words] of cases) expect(duration(ms), `${ms}`).toBe(words);
});

test('ages have one unit, and the right plural', () => {
  const cases: [number, string][] = [
    [-1, '0 s'],
    [59_999, '59 s'],
    [60_000, '1 min'],
    [3_599_000, '59 min'],
    [3_600_000, '1 h'],
    [86_400_000, '1 day'],
    [172_800_000, '2 days'],
  ];
  for (const [ms, words] of cases) expect(age(ms), `${ms}`).toBe(words);
});

test('sizes and counts', () => {
  expect([0, 1023, 1024, 1024 ** 2 * 1.5, 1024 ** 3].map(bytes)).toEqual([
    '0 B',
    '1023 B',
    '1.0 KiB',
    '1.5 MiB',
    '1.0 GiB',
  ]);
  expect([many(0, 'job'), many(1, 'job'), many(12_000, 'line'), many(2, 'entry', 'entries')]).toEqual([
    '0 jobs',
    '1 job',
    '12,000 lines',
    '2 entries',
  ]);
});

test('a run that was brought back did not go on while it rested', () => {
  const run = { started_at: '2026-03-01T10:00:00Z', ended_at: '2026-03-01T11:00:00Z', rest_ms: 3_000_000 };
  expect(took(run, 0)).toBe(600_000);
  expect(took({ started_at: run.started_at }, Date.parse('2026-03-01T10:00:30Z'))).toBe(30_000);
  expect(took({}, 0)).toBeUndefined();
});

test('a long name keeps both its ends', () => {
  expect(cutMiddle('north-pier', 10)).toBe('north-pier');
  expect(cutMiddle('north-pier-of-the-lock', 11)).toBe('north…-lock');
  expect(cutMiddle('abcdef', 4)).toBe('ab…f');
});
