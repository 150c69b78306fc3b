// A run of which only some jobs were asked for again.
import type { RunView } from '../../api/client';

/** The newer run, with the jobs that were not asked for as they were: the very same, so that they need not be drawn again. */
export function merged(old: RunView, some: RunView): RunView {
  const fresh = new Map((some.jobs ?? []).map((job) => [job.id, job]));
  return { ...some, jobs: old.jobs?.map((job) => fresh.get(job.id) ?? job) };
}
