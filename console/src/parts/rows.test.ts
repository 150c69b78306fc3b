import { expect, test } from 'vitest';
import { nextRow } from './rows';

test('a step goes to the next row, stays at the ends, and begins where one is', () => {
  const rows = ['a', 'b', 'c'];
  const never = () => false;
  expect(nextRow(rows, 'a', 1, never)).toBe('b');
  expect(nextRow(rows, 'c', 1, never)).toBe('c');
  expect(nextRow(rows, 'a', -1, never)).toBe('a');
  // From elsewhere on the page: the first row after it, or the last one before.
  const after = (row: string) => row >= 'b';
  expect(nextRow(rows, undefined, 1, after)).toBe('b');
  expect(nextRow(rows, undefined, -1, after)).toBe('a');
  expect(nextRow(rows, undefined, 1, never)).toBe('a');
  expect(nextRow(rows, undefined, -1, never)).toBe('c');
  expect(nextRow([], undefined, 1, never)).toBeUndefined();
});
