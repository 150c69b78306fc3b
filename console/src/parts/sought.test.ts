import { expect, test } from 'vitest';
import { best, rank } from './sought';

test('what begins so comes first, and every word must stand in it', () => {
  const names = ['retide', 'tide-tables', 'low-tide', 'tide', 'almanac'];
  const found = (words: string) => best(words, names, (name) => name, 9);
  expect(found('tide')).toEqual(['tide', 'tide-tables', 'low-tide', 'retide']);
  expect(found('TIDE low')).toEqual(['low-tide']);
  expect(found('')).toEqual(names);
  expect(rank('unit build', 'test.unit')).toBeUndefined();
  expect(best('tide', names, (name) => name, 1)).toEqual(['tide']);
});
