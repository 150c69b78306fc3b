import { expect, test } from 'vitest';
import { clock, copied, count, hashOf, linesOf, ordered } from './chosen';

test('an address names lines, whichever end comes first', () => {
  expect(linesOf('#L120')).toEqual([119, 119]);
  expect(linesOf('#L135-L120')).toEqual([119, 134]);
  for (const none of ['', '#L0', '#L', '#L1-', '#L-1', '#L12345678901', '#x'])
    expect(linesOf(none), none).toBeUndefined();
  expect([hashOf(4, 4), hashOf(4, 9)]).toEqual(['#L5', '#L5-L10']);
});

test('what is copied is what was marked: cut at both ends, without colours, with times where they are wanted', () => {
  const all = ['first line', '\u001b[31msecond\u001b[0m line', 'third line'].map((text, at) => ({
    text,
    at: 1000 + at * 1500,
  }));
  const line = (number: number) => all[number];
  const chosen = ordered({ line: 2, column: 5 }, { line: 0, column: 6 });
  expect(count(chosen)).toBe(3);
  expect(copied(chosen, line, undefined)).toBe('line\nsecond line\nthird');
  expect(copied(chosen, line, 1000)).toBe('    0.00  first line\n    1.50  second line\n    3.00  third line');
  expect(copied(ordered({ line: 1, column: 7 }, { line: 1, column: 0 }), line, undefined)).toBe('second ');
  expect(copied(ordered({ line: 0, column: 0 }, { line: 9, column: 0 }), line, undefined)).toBeUndefined();
});

test('times are since the job began', () => {
  expect([-5, 420, 12_340, 65_000, 3_753_000].map(clock)).toEqual(['0.00', '0.42', '12.3', '1:05', '1:02:33']);
});
