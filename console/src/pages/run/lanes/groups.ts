// Cells of one matrix belong together: in lanes under one head, in the graph in one box.
import type { JobView } from '../../../api/client';
import type { State } from '../../../look/states';

export type Group = { stage: string; name: string; cells: JobView[] };

/** The id without its cell: `build.gauge[gcc,O2]` is of `build.gauge`. */
export const jobOf = (id: string) => id.split('[', 1)[0] ?? id;

/** The cell alone, for where its job's name stands beside it. */
export const cellOf = (id: string) => id.slice(jobOf(id).length).replace(/^\[|\]$/g, '') || id;

/** Jobs with their cells, in the order of the plan. */
export function grouped(jobs: JobView[]): Group[] {
  const groups: Group[] = [];
  for (const job of jobs) {
    const name = jobOf(job.id);
    const last = groups.at(-1);
    if (last?.name === name) last.cells.push(job);
    else groups.push({ stage: job.stage, name, cells: [job] });
  }
  return groups;
}

/** All states, the worst first. */
export const worst: State[] = [
  'failed',
  'lost',
  'refused',
  'running',
  'queued',
  'gated',
  'waiting',
  'stopped',
  'overtaken',
  'passed',
  'reused',
  'skipped',
];

/** What is said of all of them: the worst that one of them is. */
export function stateOf(cells: JobView[]): State {
  return worst.find((state) => cells.some((cell) => cell.state === state)) ?? 'waiting';
}

/** How many are in each state, the worst first. */
export function countsOf(jobs: JobView[]): [State, number][] {
  const counts = new Map<State, number>();
  for (const job of jobs) counts.set(job.state, (counts.get(job.state) ?? 0) + 1);
  return worst.filter((state) => counts.has(state)).map((state) => [state, counts.get(state) ?? 0]);
}
