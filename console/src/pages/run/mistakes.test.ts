import { expect, test } from 'vitest';
import { around } from './mistakes';

const text = 'language = 1\n[job.test.unit]\nstpes = ["make"]\nenv = { "ø" = "høyvann" }\n';
const told = (line: number, column: number, end_line: number, end_column: number) =>
  around(text, { line, column, end_line, end_column }).map(
    (one) => `${one.number}|${one.before}|${one.within}|${one.after}`,
  );

test('the place is cut out of its line, with two lines around it', () => {
  expect(told(3, 1, 3, 6)).toEqual([
    '1|language = 1||',
    '2|[job.test.unit]||',
    '3||stpes| = ["make"]',
    '4|env = { "ø" = "høyvann" }||',
  ]);
});

test('columns are characters, not bytes', () => {
  expect(told(4, 16, 4, 23)[2]).toBe('4|env = { "ø" = "|høyvann|" }');
});

test('a place of several lines, of none, and beyond the end', () => {
  expect(told(1, 5, 2, 4)).toEqual([
    '1|lang|uage = 1|',
    '2||[jo|b.test.unit]',
    '3|stpes = ["make"]||',
    '4|env = { "ø" = "høyvann" }||',
  ]);
  expect(told(2, 16, 2, 16)[1]).toBe('2|[job.test.unit]| |');
  expect(told(9, 1, 9, 2)).toEqual([]);
  expect(around('', { line: 1, column: 1, end_line: 1, end_column: 1 })).toEqual([]);
});
