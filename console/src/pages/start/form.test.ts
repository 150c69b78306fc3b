import { expect, test } from 'vitest';
import type { PlanView } from '../../api/client';
import { asJobs, begun, choices, deploying, inputsOf, missing, type Pipeline, sentence } from './form';

const pipeline = {
  name: 'main',
  inputs: [
    { name: 'rounds', choices: ['2', '20'], default: '20' },
    { name: 'station', choices: [], says: 'where to' },
    { name: 'mode', choices: ['slow', 'fast'] },
  ],
} as unknown as Pipeline;
const plan = {
  jobs: [
    { id: 'test.unit[O0]', stage: 'test' },
    { id: 'test.unit[O2]', stage: 'test' },
    { id: 'ship.it', stage: 'ship', skipped: 'its condition is false' },
  ],
} as unknown as PlanView;

test('the form begins with what the address says, else with what the file says', () => {
  expect(inputsOf(pipeline, { rounds: '2', other: 'x' })).toEqual({ rounds: '2', station: '', mode: 'slow' });
  expect(missing(pipeline, { rounds: '2', station: '', mode: 'slow' })).toEqual(['station']);
  expect(missing(undefined, {})).toEqual([]);
});

test('what will happen is one sentence', () => {
  expect(sentence(plan, 'a1b2c3d4e5', 'main')).toBe('Starts a run of a1b2c3d4 (main): 2 jobs, 1 will be skipped.');
  expect(sentence({ ...plan, jobs: plan.jobs.slice(0, 1) }, 'a1b2c3d4e5', 'v1')).toBe(
    'Starts a run of a1b2c3d4 (v1): 1 job.',
  );
  expect(sentence(undefined, 'a', 'b')).toBe('');
});

test('jobs are chosen without their cells, and drawn as not begun', () => {
  expect(choices(plan)).toEqual([
    ['test', ['test.unit']],
    ['ship', ['ship.it']],
  ]);
  expect(asJobs(plan).map((job) => job.state)).toEqual(['waiting', 'waiting', 'skipped']);
});

test('what goes into an environment is what may be an emergency', () => {
  const job = (id: string, deploys: string | null, skipped: string | null = null) => ({ id, deploys, skipped });
  const plan = { jobs: [job('test.unit', null), job('ship.pier', 'pier'), job('ship.gate', 'gate', 'not now')] };
  expect(deploying(plan as never)).toEqual([{ job: 'ship.pier', into: 'pier' }]);
  expect(deploying(undefined)).toEqual([]);
});

test('of each job that was to go past the rules it is told how it goes', () => {
  expect(begun('stations/2', [])).toEqual({ words: 'stations/2 has begun.', wrong: false });
  const entries = [{ job: 'ship.gate', refused: 'only mara may' }, { job: 'ship.north' }, { job: 'ship.south' }];
  expect(begun('stations/2', entries)).toEqual({
    words:
      'stations/2 has begun. Past the rules: ship.north, ship.south. By the rules: ship.gate, since only mara may.',
    wrong: true,
  });
});
