import { expect, test } from 'vitest';
import { reachOf, reachWords } from './reach';

test('where something goes is read from what was typed, and told again', () => {
  const reach = reachOf({ branches: 'main, release/**', tags: ' ', pipelines: 'nightly' });
  expect(reach).toEqual({ branches: ['main', 'release/**'], tags: null, pipelines: ['nightly'] });
  expect(reachWords(reach)).toBe('branches main, release/**; pipelines nightly');
  expect(reachWords(reachOf({}))).toBe('everywhere');
});
