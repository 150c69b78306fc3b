import { expect, test } from 'vitest';
import type { JobView, RunView } from '../../api/client';
import { merged } from './merge';

test('what was asked for takes its place, in the order of the plan; all else of the run is new', () => {
  const job = (id: string, state: JobView['state']) => ({ id, state }) as JobView;
  const old = {
    run: 'tidegauge/1',
    sentence: 'before',
    jobs: [job('a', 'passed'), job('b', 'running'), job('c', 'waiting')],
  };
  const some = { run: 'tidegauge/1', sentence: 'now', jobs: [job('c', 'running'), job('b', 'failed')] };
  const next = merged(old as RunView, some as RunView);
  expect(next.sentence).toBe('now');
  expect(next.jobs?.map((one) => `${one.id} ${one.state}`)).toEqual(['a passed', 'b failed', 'c running']);
  expect(next.jobs?.[0]).toBe(old.jobs[0]);
  expect(merged(old as RunView, { ...some, jobs: undefined } as RunView).jobs).toHaveLength(3);
});
