// Rules that hold for every file of the console: no styles in markup, no colour that is not of the palette.
import { readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { expect, test } from 'vitest';

const files = readdirSync('src', { recursive: true, withFileTypes: true })
  .filter((entry) => entry.isFile() && /\.(tsx?|css)$/.test(entry.name))
  .map((entry) => join(entry.parentPath, entry.name))
  .filter((path) => !/\.test\.tsx?$|schema\.d\.ts$/.test(path));

/** Where a pattern stands, as PATH:LINE. */
function places(pattern: RegExp, among: string[]): string[] {
  return among.flatMap((path) =>
    readFileSync(path, 'utf8')
      .split('\n')
      .flatMap((line, at) => (pattern.test(line) ? [`${path}:${at + 1}`] : [])),
  );
}

test('no markup has a style of its own', () => {
  expect(files.length).toBeGreaterThan(100);
  expect(
    places(
      /\bstyle=/,
      files.filter((path) => path.endsWith('.tsx')),
    ),
  ).toEqual([]);
});

test('every colour is of the palette', () => {
  const others = files.filter((path) => !path.endsWith('look/colours.ts'));
  expect(places(/#[0-9a-f]{3,8}\b(?=[;'"\s,)])|\brgba?\(|\bhsla?\(/i, [...others, 'index.html'])).toEqual([]);
});
