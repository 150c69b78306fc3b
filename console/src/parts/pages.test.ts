import { expect, test } from 'vitest';
import { addressOf, projectPages, titleOf } from './pages';

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

test('the tab says which page it is', () => {
  expect(titleOf('/', undefined)).toBe('Board · Ordotaxis');
  expect(titleOf('/people', undefined)).toBe('People · Ordotaxis');
  expect(titleOf('/projects/tidegauge', 'tidegauge')).toBe('tidegauge: Runs · Ordotaxis');
  expect(titleOf('/projects/tidegauge/environments', 'tidegauge')).toBe('tidegauge: Environments · Ordotaxis');
  expect(titleOf('/projects/tidegauge/environments/north-pier', 'tidegauge')).toBe(
    'tidegauge: Environments north-pier · Ordotaxis',
  );
  expect(titleOf('/projects/tidegauge/draft/main', 'tidegauge')).toBe('tidegauge: Draft main · Ordotaxis');
  expect(titleOf('/runs/tidegauge/2', 'tidegauge')).toBe('runs/tidegauge/2 · Ordotaxis');
});
