import { expect, test } from 'vitest';
import { read } from './kept';
import { kept, share } from './split-share';

const store = (text: string | null) => ({ getItem: () => text });

test('what was kept is taken where it is of the same kind', () => {
  expect(read('wide', false, store('true'))).toBe(true);
  expect(read('wide', false, store('"yes"'))).toBe(false);
  expect(read('wide', false, store('{'))).toBe(false);
  expect(read('wide', false, store(null))).toBe(false);
});

test('neither half of a page is squeezed away', () => {
  expect([share(-10), share(40.4), share(120)]).toEqual([15, 40, 85]);
  expect([kept('62', 45), kept('wide', 45), kept(null, 45), kept('', 45)]).toEqual([62, 45, 45, 45]);
});
