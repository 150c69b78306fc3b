import { expect, test } from 'vitest';
import type { BoardLine } from '../../api/client';
import { headline, merged, rowsOf, shown, type Wanted } from './lines';

const line = (project: string, more: Partial<BoardLine> = {}): BoardLine => ({
  project,
  main_branch: 'main',
  main: 'passed',
  home: 'git.saltmarsh.example/harbour',
  mine: false,
  runs: [],
  now: [],
  ...more,
});
const broke = {
  run: 'tidegauge/2',
  job: 'test.unit',
  why: 'it failed',
  commit: 'a1',
  commit_title: 'Drift',
  author: 'Ines',
};
const run = {} as BoardLine['now'][number];
const all = [
  line('almanac', { home: 'git.saltmarsh.example/office' }),
  line('stations', { now: [run], mine: true }),
  line('tidegauge', { main: 'failed', broke }),
  line('patterns', { main: undefined }),
];
const wanted = (more: Partial<Wanted> = {}): Wanted => ({
  words: '',
  only: 'all',
  by: 'nothing',
  pins: [],
  folded: [],
  ...more,
});
const names = (more: Partial<Wanted> = {}) => shown(all, wanted(more)).map((one) => one.project);

test('pinned first, then broken, then running, then by name', () => {
  expect(names()).toEqual(['tidegauge', 'stations', 'almanac', 'patterns']);
  expect(names({ pins: ['patterns', 'almanac'] })).toEqual(['almanac', 'patterns', 'tidegauge', 'stations']);
});

test('words are looked for in all that a line says', () => {
  expect(names({ words: 'TIDE' })).toEqual(['tidegauge']);
  expect(names({ words: 'ines drift' })).toEqual(['tidegauge']);
  expect(names({ words: 'office' })).toEqual(['almanac']);
  expect(names({ words: 'verdict' })).toEqual(['patterns']);
  expect(names({ words: 'nowhere' })).toEqual([]);
  expect(names({ only: 'mine' })).toEqual(['stations']);
  expect(names({ only: 'broken' })).toEqual(['tidegauge']);
  expect(names({ only: 'running', words: 'tide' })).toEqual([]);
});

test('groups have heads, and fold; what is pinned stands above them', () => {
  const told = (more: Partial<Wanted>) =>
    rowsOf(shown(all, wanted(more)), wanted(more)).map((row) =>
      row.kind === 'group' ? `[${row.name} ${row.lines.length}${row.open ? '' : ' folded'}]` : row.line.project,
    );
  expect(told({ by: 'verdict', pins: ['almanac'], folded: ['Running'] })).toEqual([
    'almanac',
    '[Broken 1]',
    'tidegauge',
    '[Running 1 folded]',
    '[No verdict yet 1]',
    'patterns',
  ]);
  expect(told({ by: 'home' })).toEqual([
    '[git.saltmarsh.example/harbour 3]',
    'tidegauge',
    'stations',
    'patterns',
    '[git.saltmarsh.example/office 1]',
    'almanac',
  ]);
});

test('what was asked for again takes its place; all others are the very same', () => {
  const fresh = line('almanac', { main: 'failed' });
  const next = merged(all, ['almanac', 'stations', 'newcomer'], [fresh, line('newcomer')]);
  expect(next.map((one) => one.project)).toEqual(['almanac', 'tidegauge', 'patterns', 'newcomer']);
  expect(next[0]).toBe(fresh);
  expect(next[1]).toBe(all[2]);
});

test('the heading counts', () => {
  expect(headline(all)).toBe('1 of 4 main branches is broken');
  expect(headline([line('a', { main: 'failed' }), line('b', { main: 'failed' })])).toBe(
    '2 of 2 main branches are broken',
  );
  expect(headline([line('a')])).toBe('The main branch is well');
  expect(headline([line('a'), line('b')])).toBe('All 2 main branches are well');
  expect(headline(all.filter((one) => one.broke).slice(0, 1))).toBe('The main branch is broken');
});
