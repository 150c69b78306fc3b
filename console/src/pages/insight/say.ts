// How figures are said.
import type { Schemas } from '../../api/client';
import { duration } from '../../parts/words';

/** The pipeline is said where it is not the one that most projects have. */
export const jobName = (job: Schemas['JobInsight']) =>
  job.pipeline === 'main' ? job.job : `${job.job} of ${job.pipeline}`;

export const length = (ms: number | null | undefined) => (ms == null ? '–' : duration(ms));

export const money = (cost: number) => (cost === 0 ? '0' : cost.toFixed(cost < 10 ? 4 : 2));
