// The rows of the lanes: stages with their heads, cells of a matrix under one, a lane a job. What is folded, and what a
// filter leaves out, has no lane.
import type { JobView } from '../../../api/client';
import type { State } from '../../../look/states';
import { type Group, grouped } from './groups';

export type Row =
  | { kind: 'stage'; name: string; jobs: JobView[]; open: Open }
  | { kind: 'group'; group: Group; open: boolean }
  | { kind: 'lane'; job: JobView; cell: boolean }
  /** Jobs of a stage that are left out, since only those that matter are shown. */
  | { kind: 'others'; stage: string; jobs: JobView[] };

/** How much of a stage is shown: nothing, what failed or goes on, all. */
export type Open = 'shut' | 'matters' | 'all';
export type Order = 'plan' | 'slowest';

export interface Wanted {
  words: string;
  states: State[];
  order: Order;
  /** Stages and matrices that someone opened or shut. */
  stages: Record<string, Open>;
  groups: Record<string, boolean>;
  chosen: string | undefined;
}

export const HEIGHT = { stage: 28, group: 28, lane: 28, others: 24 };
/** A matrix of more cells begins folded. */
const OPEN_CELLS = 8;
/** A run of more jobs begins with its stages shut, but for what failed or goes on. */
const LARGE = 120;

const matters = (job: JobView) => ['failed', 'lost', 'refused', 'running', 'gated'].includes(job.state);

/** The jobs that a filter leaves. */
export function filtered(jobs: JobView[], { words, states }: Pick<Wanted, 'words' | 'states'>): JobView[] {
  const wanted = words.toLowerCase().split(/\s+/).filter(Boolean);
  return jobs.filter(
    (job) =>
      (states.length === 0 || states.includes(job.state)) &&
      wanted.every((word) => `${job.id} ${job.stage} ${job.state}`.toLowerCase().includes(word)),
  );
}

/** How long a job's newest attempt went on. */
export function tookOf(job: JobView, now: number): number {
  const last = job.attempts.at(-1);
  if (!last) return 0;
  return (last.ended_at ? Date.parse(last.ended_at) : now) - Date.parse(last.started_at);
}

export function rowsOf(jobs: JobView[], wanted: Wanted, now: number): Row[] {
  const left = filtered(jobs, wanted);
  if (wanted.order === 'slowest')
    return [...left].sort((a, b) => tookOf(b, now) - tookOf(a, now)).map((job) => ({ kind: 'lane', job, cell: false }));
  const isFiltered = left.length < jobs.length;
  const stages = new Map<string, JobView[]>();
  for (const job of left) stages.set(job.stage, [...(stages.get(job.stage) ?? []), job]);
  return [...stages].flatMap(([name, own]) => {
    const open = wanted.stages[name] ?? usual(own, jobs.length, isFiltered, wanted.chosen);
    return [{ kind: 'stage', name, jobs: own, open } satisfies Row, ...lanesOf(name, own, open, wanted)];
  });
}

/** How a stage begins. What someone looked for is shown. */
function usual(jobs: JobView[], all: number, isFiltered: boolean, chosen: string | undefined): Open {
  if (all <= LARGE || isFiltered) return 'all';
  return jobs.some((job) => matters(job) || job.id === chosen) ? 'matters' : 'shut';
}

function lanesOf(stage: string, jobs: JobView[], open: Open, wanted: Wanted): Row[] {
  if (open === 'shut') return [];
  const own = open === 'all' ? jobs : jobs.filter((job) => matters(job) || job.id === wanted.chosen);
  const rows: Row[] = [];
  for (const group of grouped(own)) {
    const [only] = group.cells;
    if (group.cells.length === 1 && only) {
      rows.push({ kind: 'lane', job: only, cell: false });
      continue;
    }
    const holds = group.cells.some((cell) => cell.id === wanted.chosen);
    const isOpen = wanted.groups[group.name] ?? (group.cells.length <= OPEN_CELLS || holds || open === 'matters');
    rows.push({ kind: 'group', group, open: isOpen });
    if (isOpen) for (const job of group.cells) rows.push({ kind: 'lane', job, cell: true });
  }
  const others = jobs.filter((job) => !own.includes(job));
  if (others.length > 0) rows.push({ kind: 'others', stage, jobs: others });
  return rows;
}
