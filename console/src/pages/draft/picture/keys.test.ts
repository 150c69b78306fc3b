import { expect, test } from 'vitest';
import { keys, others, read, shown } from './keys';

test('what a field shows is what it says again', () => {
  const values: Record<string, unknown> = {
    steps: ['make', { name: 'size', run: 'make size', if: 'true' }],
    gives: { firmware: ['out/*', 'map'] },
    where: ['linux', 'arm64'],
    env: { UNITS: 'mm', RATE: '4' },
    if: 'ref.branch == "main"',
    at_once: 3,
    by_hand: true,
  };
  for (const [key, value] of Object.entries(values)) {
    const kind = keys.find((one) => one.key === key)?.kind ?? 'text';
    expect(read(kind, shown(kind, value) ?? '', value), key).toEqual({ value });
  }
  expect(shown('list', undefined)).toBe('');
  expect(read('list', ' ', ['a'])).toEqual({ value: null });
});

test('a step keeps what else it says while its command changes', () => {
  const before = ['make', { name: 'size', run: 'make size' }, 'make check'];
  expect(read('steps', 'make\nmake sizes\nmake check', before)).toEqual({
    value: ['make', { name: 'size', run: 'make sizes' }, 'make check'],
  });
  expect(read('steps', 'make size\nmake', before)).toEqual({ value: [{ name: 'size', run: 'make size' }, 'make'] });
  expect(read('steps', 'make\n\nmake more\nmake size', before)).toEqual({
    value: ['make', 'make more', { name: 'size', run: 'make size' }],
  });
});

test('what is too much for a field is left to the text', () => {
  expect(shown('steps', ['make\nmake size'])).toBeUndefined();
  expect(shown('lists', { firmware: { paths: ['out'], keep: '90d' } })).toBeUndefined();
  expect(shown('map', ['a'])).toBeUndefined();
  expect(others({ steps: [], takes: [], cache: [{}], beside: [] })).toEqual(['cache', 'beside']);
  expect(read('number', 'three', 3)).toEqual({ wrong: '“three” is not a whole number' });
  expect(read('map', 'UNITS', {})).toEqual({ wrong: '“UNITS” is not NAME = VALUE' });
});
