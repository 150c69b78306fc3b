// A run beside another one: when each job ran there, and which took longer here.
import type { JobView, RunView } from '../../../api/client';
import { time } from '../../../parts/words';
import { tookOf } from './rows';

export interface Ghost {
  /** Since the other run began, in milliseconds. */
  from: number;
  to: number;
}

/** When the jobs of another run ran, by id. */
export function ghosts(other: RunView, now: number): Map<string, Ghost> {
  const begin = time(other.started_at ?? other.created_at);
  const found = new Map<string, Ghost>();
  for (const job of other.jobs ?? []) {
    const last = job.attempts.at(-1);
    if (last)
      found.set(job.id, {
        from: time(last.started_at) - begin,
        to: (last.ended_at ? time(last.ended_at) : now) - begin,
      });
  }
  return found;
}

export interface Slower {
  id: string;
  before: number;
  after: number;
}

/** Less than this is no news: a share of what it took, and milliseconds. */
const SHARE = 0.1;
const LEAST = 100;

/** Jobs that took longer than in the other run, the greatest difference first. */
export function slower(jobs: JobView[], other: RunView, now: number): Slower[] {
  const before = new Map(
    (other.jobs ?? []).filter((job) => job.attempts.length > 0).map((job) => [job.id, tookOf(job, now)]),
  );
  return jobs
    .filter((job) => job.attempts.length > 0 && before.has(job.id))
    .map((job) => ({ id: job.id, before: before.get(job.id) ?? 0, after: tookOf(job, now) }))
    .filter((one) => one.after - one.before > Math.max(LEAST, SHARE * one.before))
    .sort((a, b) => b.after - b.before - (a.after - a.before));
}
