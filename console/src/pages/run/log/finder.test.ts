import { expect, test } from 'vitest';
import { lookFor, patternOf } from './pattern';

test('what is typed is found as it stands; capitals count where there are any', () => {
  expect(patternOf('a.b')).toBe('(?i)a\\.b');
  expect(patternOf('Error (1)')).toBe('Error \\(1\\)');
  expect('An ERROR'.match(lookFor('error') ?? /never/)?.[0]).toBe('ERROR');
  expect('An error'.match(lookFor('Error') ?? /never/)).toBeNull();
  expect(lookFor('')).toBeUndefined();
  expect(lookFor(':120')).toBeUndefined();
});
