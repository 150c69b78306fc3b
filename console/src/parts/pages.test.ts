import { expect, test } from 'vitest';
import { addressOf, projectPages } from './pages';

test('a path is an address', () => {
  expect(addressOf('tidegauge')).toBe('/projects/tidegauge');
  expect(addressOf(' tidegauge / 12 ')).toBe('/runs/tidegauge/12');
  expect(addressOf('tidegauge/12/test.unit[O2]')).toBe('/runs/tidegauge/12/test.unit%5BO2%5D');
  for (const none of ['', '/', 'two words', 'tidegauge/last', 'a/1/b/c']) expect(addressOf(none), none).toBeUndefined();
});

test('a project has each page once', () => {
  const pages = projectPages('tidegauge');
  expect(new Set(pages.map((page) => page.to)).size).toBe(pages.length);
  expect(pages[0]?.to).toBe('/projects/tidegauge');
});
