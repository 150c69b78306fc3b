// Which job of a run is looked at.
import type { JobView } from '../../api/client';
import { isEnd } from '../../look/states';
import { time } from '../../parts/words';

/** It failed, and the run with it. */
export const isBad = (job: JobView) => (job.state === 'failed' || job.state === 'lost') && !job.may_fail;

/** What went wrong first, else what runs, else what is still to come, else the last. */
export function firstToShow(jobs: JobView[]): JobView | undefined {
  const [first] = jobs.filter(isBad).sort((a, b) => time(a.since) - time(b.since));
  return first ?? jobs.find((job) => job.state === 'running') ?? jobs.find((job) => !isEnd(job.state)) ?? jobs.at(-1);
}

/** The failed job after another, or before it, in the order of the plan; after the last comes the first. */
export function nextBad(jobs: JobView[], from: string | undefined, by: 1 | -1): JobView | undefined {
  const at = jobs.findIndex((job) => job.id === from);
  const turned =
    by === 1
      ? [...jobs.slice(at + 1), ...jobs.slice(0, at + 1)]
      : [...jobs.slice(0, Math.max(0, at)).reverse(), ...jobs.slice(Math.max(0, at)).reverse()];
  return turned.find(isBad);
}
