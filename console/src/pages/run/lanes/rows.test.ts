import { expect, test } from 'vitest';
import type { JobView } from '../../../api/client';
import { countsOf, grouped, stateOf } from './groups';
import { filtered, type Row, rowsOf, tookOf, type Wanted } from './rows';

const job = (id: string, state: JobView['state'] = 'passed', ms = 10): JobView =>
  ({
    id,
    stage: id.split('.')[0],
    state,
    since: '2026-03-01T10:00:00Z',
    attempts:
      ms === 0
        ? []
        : [
            {
              number: 1,
              state,
              started_at: '2026-03-01T10:00:00Z',
              ended_at: new Date(Date.parse('2026-03-01T10:00:00Z') + ms).toISOString(),
              phases: [],
            },
          ],
  }) as unknown as JobView;
const wanted = (more: Partial<Wanted> = {}): Wanted => ({
  words: '',
  states: [],
  order: 'plan',
  stages: {},
  groups: {},
  chosen: undefined,
  ...more,
});
const told = (rows: Row[]) =>
  rows.map((row) => {
    if (row.kind === 'lane') return row.cell ? `  ${row.job.id}` : row.job.id;
    if (row.kind === 'group') return `(${row.group.name} ${row.group.cells.length}${row.open ? '' : ' shut'})`;
    if (row.kind === 'others') return `+${row.jobs.length}`;
    return `[${row.name} ${row.jobs.length} ${row.open}]`;
  });
const small = [
  job('build.a'),
  job('test.unit[O0]', 'failed', 90),
  job('test.unit[O2]', 'passed', 30),
  job('test.soak', 'running', 50),
];

test('stages have heads, matrices too, and each job a lane', () => {
  expect(told(rowsOf(small, wanted(), 0))).toEqual([
    '[build 1 all]',
    'build.a',
    '[test 3 all]',
    '(test.unit 2)',
    '  test.unit[O0]',
    '  test.unit[O2]',
    'test.soak',
  ]);
  expect(told(rowsOf(small, wanted({ stages: { test: 'shut' }, groups: { 'test.unit': false } }), 0))).toEqual([
    '[build 1 all]',
    'build.a',
    '[test 3 shut]',
  ]);
});

test('a filter leaves what is looked for; the slowest come first without stages', () => {
  expect(filtered(small, { words: 'unit FAILED', states: [] }).map((one) => one.id)).toEqual(['test.unit[O0]']);
  expect(filtered(small, { words: '', states: ['running', 'passed'] })).toHaveLength(3);
  expect(told(rowsOf(small, wanted({ states: ['failed'] }), 0))).toEqual(['[test 1 all]', 'test.unit[O0]']);
  expect(told(rowsOf(small, wanted({ order: 'slowest' }), 0))).toEqual([
    'test.unit[O0]',
    'test.soak',
    'test.unit[O2]',
    'build.a',
  ]);
  expect(rowsOf(small, wanted({ words: 'nothing' }), 0)).toEqual([]);
});

test('of a large run only what matters is shown at first, and a click brings the rest', () => {
  const large = [
    ...Array.from({ length: 500 }, (_, at) => job(`check.part${at}`)),
    ...Array.from({ length: 500 }, (_, at) => job(`test.shard[${at}]`, at === 7 ? 'failed' : 'passed')),
    job('ship.it', 'skipped', 0),
  ];
  expect(told(rowsOf(large, wanted(), 0))).toEqual([
    '[check 500 shut]',
    '[test 500 matters]',
    'test.shard[7]',
    '+499',
    '[ship 1 shut]',
  ]);
  // The chosen one is among the lanes, whatever else is left out.
  expect(told(rowsOf(large, wanted({ chosen: 'check.part3' }), 0))).toContain('check.part3');
  expect(told(rowsOf(large, wanted({ stages: { test: 'all' } }), 0))).toEqual([
    '[check 500 shut]',
    '[test 500 all]',
    '(test.shard 500 shut)',
    '[ship 1 shut]',
  ]);
  expect(rowsOf(large, wanted({ words: 'part49' }), 0)).toHaveLength(1 + 11);
});

test('the worst is said of all of them', () => {
  expect(stateOf(small)).toBe('failed');
  expect(stateOf([])).toBe('waiting');
  expect(countsOf(small)).toEqual([
    ['failed', 1],
    ['running', 1],
    ['passed', 2],
  ]);
  expect(grouped(small).map((group) => group.cells.length)).toEqual([1, 2, 1]);
  expect(tookOf(job('a.b', 'waiting', 0), 5)).toBe(0);
});
