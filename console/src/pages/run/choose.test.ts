import { expect, test } from 'vitest';
import type { JobView } from '../../api/client';
import { firstToShow, nextBad } from './choose';

const job = (id: string, state: JobView['state'], since = '2026-03-01T10:00:00Z', more: Partial<JobView> = {}) =>
  ({
    id,
    stage: 'a',
    state,
    since,
    may_fail: false,
    by_hand: false,
    attempts: [],
    inputs: {},
    facts: {},
    numbers: {},
    ...more,
  }) as JobView;

test('what went wrong first is shown first', () => {
  const jobs = [
    job('a', 'passed'),
    job('b', 'failed', '2026-03-01T10:05:00Z'),
    job('c', 'lost', '2026-03-01T10:02:00Z'),
    job('d', 'failed', '2026-03-01T10:01:00Z', { may_fail: true }),
  ];
  expect(firstToShow(jobs)?.id).toBe('c');
  expect(firstToShow([job('a', 'passed'), job('b', 'queued'), job('c', 'running')])?.id).toBe('c');
  expect(firstToShow([job('a', 'passed'), job('b', 'waiting'), job('c', 'passed')])?.id).toBe('b');
  expect(firstToShow([job('a', 'passed'), job('b', 'passed')])?.id).toBe('b');
  expect(firstToShow([])).toBeUndefined();
});

test('failed jobs are gone through in a circle', () => {
  const jobs = [job('a', 'failed'), job('b', 'passed'), job('c', 'failed'), job('d', 'lost')];
  const way = (from: string | undefined, by: 1 | -1) => nextBad(jobs, from, by)?.id;
  expect([way('a', 1), way('c', 1), way('d', 1), way('b', 1)]).toEqual(['c', 'd', 'a', 'c']);
  expect([way('a', -1), way('c', -1), way('d', -1), way('b', -1)]).toEqual(['d', 'a', 'c', 'a']);
  expect(nextBad([job('a', 'passed')], 'a', 1)).toBeUndefined();
});
