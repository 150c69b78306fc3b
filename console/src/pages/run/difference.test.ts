import { expect, test } from 'vitest';
import { sides } from './difference';

test('each side keeps all of its text, and marks what the other has not', () => {
  const told = (first: string, second: string) =>
    sides(first, second).map((pieces) =>
      pieces.map((piece) => (piece.differs ? `[${piece.text}]` : piece.text)).join(''),
    );
  expect(told('level 412 mm', 'level 415 mm')).toEqual(['level [412] mm', 'level [415] mm']);
  expect(told('same', 'same')).toEqual(['same', 'same']);
  expect(told('', 'new')).toEqual(['', '[new]']);
  const long = Array.from({ length: 500 }, (_, at) => `line number ${at}\n`).join('');
  const [first, second] = sides(long, long.replace('number 250\n', 'number two fifty\n'));
  expect(first.filter((piece) => piece.differs).map((piece) => piece.text)).toEqual(['line number 250\n']);
  expect(second.map((piece) => piece.text).join('')).toContain('two fifty');
  expect(sides('x'.repeat(150_000), 'y'.repeat(150_000))[0]).toEqual([{ text: 'x'.repeat(150_000), differs: true }]);
});
