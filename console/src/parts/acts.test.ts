import { expect, test } from 'vitest';
import { actOf } from './acts';

const press = (key: string, held: object = {}) => ({ key, ctrlKey: false, metaKey: false, altKey: false, ...held });

test('a key is what its character says, and the nearest group counts', () => {
  const told: string[] = [];
  const act = (name: string, key: string) => ({ name, key, run: () => told.push(name) });
  const groups = [
    { title: 'Log', acts: [act('wrap', 'l'), act('error before', 'E')] },
    { title: 'Run', acts: [act('wide', 'w'), act('lanes', 'l')] },
    { title: 'Everywhere', acts: [act('search', 'Ctrl-K')] },
  ];
  for (const event of [
    press('l'),
    press('w'),
    press('E'),
    press('k', { ctrlKey: true }),
    press('K', { metaKey: true }),
  ])
    actOf(event, groups)?.run();
  expect(told).toEqual(['wrap', 'wide', 'error before', 'search', 'search']);
  expect(actOf(press('k'), groups)).toBeUndefined();
  expect(actOf(press('l', { altKey: true }), groups)).toBeUndefined();
  expect(actOf(press('l', { ctrlKey: true }), groups)).toBeUndefined();
});
