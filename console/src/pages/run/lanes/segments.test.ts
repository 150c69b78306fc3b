import { expect, test } from 'vitest';
import type { JobView, PlanView, RunView } from '../../../api/client';
import { ghosts, slower } from './against';
import { drawing } from './drawing';
import { rowsOf } from './rows';
import { extent, readiness, segmentsOf, wholesOf } from './segments';

const begin = Date.parse('2026-03-01T10:00:00Z');
const moment = (ms: number) => new Date(begin + ms).toISOString();
type Attempt = JobView['attempts'][number];
const attempt = (from: number, to: number | undefined, more: Partial<Attempt> = {}): Attempt =>
  ({
    number: 1,
    state: 'passed',
    runner: 'quay',
    started_at: moment(from),
    ended_at: to === undefined ? undefined : moment(to),
    phases: [],
    caches: [],
    ...more,
  }) as Attempt;
const job = (id: string, attempts: Attempt[], state: JobView['state'] = 'passed'): JobView =>
  ({ id, stage: id.split('.')[0], state, since: moment(0), attempts }) as unknown as JobView;
const phase = (name: string, from: number, ms: number | undefined, more = {}) =>
  ({
    name,
    kind: 'step',
    started_at: moment(from),
    duration_ms: ms,
    failed: false,
    log_from: 0,
    log_line: 0,
    ...more,
  }) as Attempt['phases'][number];

test('waits, set-up, steps, tries: each where it was', () => {
  const tried = job('test.unit', [
    attempt(300, 500, {
      state: 'failed',
      why: 'exited with 1',
      phases: [phase('checkout', 300, 50, { kind: 'checkout' }), phase('make', 350, 150, { failed: true })],
    }),
    attempt(700, undefined, { number: 2, state: 'running', phases: [phase('make', 750, undefined)] }),
  ]);
  const told = segmentsOf(tried, begin + 100, begin + 900).map(
    (one) => `${one.kind} ${one.state} ${one.from - begin}-${one.to - begin}`,
  );
  expect(told).toEqual([
    'wait waiting 100-300',
    'pale failed 300-500',
    'pale failed 300-350',
    'bad failed 350-500',
    'wait waiting 500-700',
    'pale running 700-900',
    'step running 750-900',
  ]);
  expect(segmentsOf(job('a.b', []), begin, begin)).toEqual([]);
  expect(wholesOf([tried], begin + 900)).toHaveLength(2);
});

test('a job is ready when the last that it waits for has ended', () => {
  const jobs = [job('a.a', [attempt(0, 100)]), job('a.b', [attempt(0, 250)]), job('b.c', [attempt(400, 500)])];
  const plan = {
    jobs: [
      {
        id: 'b.c',
        waits_for: [
          { job: 'a.a', implied: false },
          { job: 'a.b', implied: false },
        ],
      },
    ],
  } as unknown as PlanView;
  const ready = readiness(jobs, plan, begin);
  expect(ready(jobs[2] as JobView) - begin).toBe(250);
  expect(ready(jobs[0] as JobView)).toBe(begin);
});

test('what was done after the verdict is in sight, too', () => {
  const run = { created_at: moment(-50), started_at: moment(0), ended_at: moment(100) };
  expect(extent(run, [job('a.a', [attempt(0, 700)])], begin + 9_999)).toEqual({ from: begin, to: begin + 700 });
  expect(extent({ created_at: moment(0) }, [], begin + 50)).toEqual({ from: begin, to: begin + 50 });
});

test('what got slower than in another run, the most first', () => {
  const now = [
    job('a.same', [attempt(0, 1000)]),
    job('a.slow', [attempt(0, 2000)]),
    job('a.slower', [attempt(0, 9000)]),
    job('a.new', [attempt(0, 50)]),
  ];
  const other = {
    created_at: moment(0),
    started_at: moment(500),
    jobs: [
      job('a.same', [attempt(500, 1450)]),
      job('a.slow', [attempt(500, 1500)]),
      job('a.slower', [attempt(500, 1500)]),
      job('a.skipped', []),
    ],
  } as unknown as RunView;
  expect(slower(now, other, 0).map((one) => `${one.id} ${one.before} ${one.after}`)).toEqual([
    'a.slower 1000 9000',
    'a.slow 1000 2000',
  ]);
  expect(ghosts(other, 0).get('a.slow')).toEqual({ from: 0, to: 1000 });
  expect(ghosts(other, 0).has('a.skipped')).toBe(false);
});

test('the drawing that leaves the page has every row, and nothing that a name could break', () => {
  const jobs = [job('test.<unit>&"', [attempt(0, 400)]), job('test.gone', [], 'skipped')];
  const rows = rowsOf(jobs, { words: '', states: [], order: 'plan', stages: {}, groups: {}, chosen: undefined }, begin);
  const part = { from: begin, to: begin + 1000 };
  const svg = drawing({
    title: 'tidegauge/1 passed',
    sentence: 'Passed: 2 jobs',
    rows,
    part,
    begin,
    now: begin + 1000,
    ready: () => begin,
    colour: (name) => `#${name}`,
  });
  expect(svg).toContain('test.&lt;unit&gt;&amp;&quot;');
  expect(svg).toContain('test.gone');
  expect(svg).not.toMatch(/undefined|NaN/);
  expect(svg.match(/<svg/g)).toHaveLength(1);
});
