import { expect, test } from 'vitest';
import { colour, LONGEST, marked, marksIn, parts, plain, rowsOf, settled, spread, width } from './text';

const ESC = '\u001b';

test('what a program prints for a terminal becomes plain text', () => {
  const cases: [string, string][] = [
    ['plain', 'plain'],
    ['10 %\r50 %\r100 %', '100 %'],
    ['done\r', 'done'],
    [`${ESC}[31mred${ESC}[0m`, 'red'],
    [`${ESC}[2K${ESC}[1Gonce more`, 'once more'],
    [`${ESC}]8;;https://evil.example${ESC}\\link${ESC}]8;;${ESC}\\`, 'link'],
    [`${ESC}]0;title\u0007text`, 'text'],
    ['a\u0000b\u0008c', 'abc'],
    // Text that would be shown in another order than it is written.
    ['access\u202e\u2066 denied', 'access denied'],
    [`half ${ESC}`, 'half '],
    ['tab\there', 'tab\there'],
  ];
  for (const [raw, text] of cases) expect(plain(raw), JSON.stringify(raw)).toBe(text);
  expect(plain('\r'), 'nothing but an end').toBe('');
  expect(settled('x'.repeat(LONGEST + 5))).toHaveLength(LONGEST + 2);
});

test('colours are the nearest of eight', () => {
  const look = (raw: string) => parts(raw).map((part) => [part.text, part.look]);
  expect(look(`${ESC}[31mred${ESC}[0m and ${ESC}[1;92mgreen`)).toEqual([
    ['red', 'ansi-red'],
    [' and ', ''],
    ['green', 'ansi-green ansi-bold'],
  ]);
  expect(look(`${ESC}[38;5;214mo${ESC}[38;2;10;20;200mb`)).toEqual([
    ['o', 'ansi-yellow'],
    ['b', 'ansi-blue'],
  ]);
  expect(look(`${ESC}[41mon`)).toEqual([['on', 'ansi-on-red']]);
  for (let number = 0; number < 256; number += 1) expect(colour(`ansi-palette-${number}`, null)).toMatch(/^[a-z]+$/);
  expect(colour('ansi-never', null)).toBe('white');
});

test('rows are counted as a terminal would', () => {
  expect(width('høyvann')).toBe(7);
  expect(width('潮位')).toBe(4);
  expect(width('e\u0301')).toBe(1);
  expect(spread('a\tb')).toBe('a       b');
  expect(rowsOf('', 80)).toBe(1);
  expect(rowsOf('x'.repeat(80), 80)).toBe(1);
  expect(rowsOf('x'.repeat(81), 80)).toBe(2);
  expect(rowsOf(`${ESC}[31m${'x'.repeat(80)}${ESC}[0m`, 80)).toBe(1);
  expect(rowsOf('\tx', 8)).toBe(2);
});

test('what was found is marked across colours, and nothing is lost', () => {
  const all = parts(`an ${ESC}[31mer${ESC}[0mror here`);
  const text = all.map((part) => part.text).join('');
  const pieces = marked(all, marksIn(text, /error/g));
  expect(pieces.map((piece) => piece.text).join('')).toBe(text);
  expect(pieces.filter((piece) => piece.found).map((piece) => [piece.text, piece.look])).toEqual([
    ['er', 'ansi-red'],
    ['ror', ''],
  ]);
  expect(marksIn('aaa', /b*/g)).toEqual([]);
  expect(marksIn('aaa', undefined)).toEqual([]);
  expect(marksIn('a'.repeat(500), /a/g)).toHaveLength(100);
});
