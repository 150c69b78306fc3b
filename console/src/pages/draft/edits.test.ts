import { expect, test } from 'vitest';
import { change } from './edits';

test('only what differs is changed', () => {
  const pairs = [
    ['abc', 'abc'],
    ['a b c', 'a x c'],
    ['aa', 'aaa'],
    ['', 'x'],
    ['x', ''],
    ['job.a\njob.b\n', 'job.a\njob.c\njob.b\n'],
  ] as const;
  for (const [before, now] of pairs) {
    const told = change(before, now);
    const made = told ? before.slice(0, told.from) + told.insert + before.slice(told.to) : before;
    expect(made).toBe(now);
  }
  expect(change('a b c', 'a x c')).toEqual({ from: 2, to: 3, insert: 'x' });
});
