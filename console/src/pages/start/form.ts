// What someone asks for when they start a run by hand: the address holds all of it, so that it can be sent.
import type { PlanView, Schemas } from '../../api/client';
import { many } from '../../parts/words';
import { jobOf } from '../run/lanes/groups';

export type Pipeline = Schemas['PipelineView'];
export type NewRun = Schemas['NewRun'];

/** What the form begins with: what the address says, else the defaults of the file. */
export function inputsOf(pipeline: Pipeline | undefined, given: Record<string, string>): Record<string, string> {
  const entries = (pipeline?.inputs ?? []).map((input) => [
    input.name,
    given[input.name] ?? input.default ?? input.choices[0] ?? '',
  ]);
  return Object.fromEntries(entries);
}

/** Inputs that still need a value. */
export function missing(pipeline: Pipeline | undefined, inputs: Record<string, string>): string[] {
  return (pipeline?.inputs ?? []).filter((input) => (inputs[input.name] ?? '') === '').map((input) => input.name);
}

export function asked(ref: string, pipeline: string, inputs: Record<string, string>, jobs: string[]): NewRun {
  return { ref, pipeline, inputs, jobs };
}

/** The jobs that one may choose among, without their cells, by stage in the order of the plan. */
export function choices(plan: PlanView | undefined): [string, string[]][] {
  const stages = new Map<string, Set<string>>();
  for (const job of plan?.jobs ?? []) stages.set(job.stage, (stages.get(job.stage) ?? new Set()).add(jobOf(job.id)));
  return [...stages].map(([stage, jobs]) => [stage, [...jobs]]);
}

/** Jobs that put something into an environment, where they run at all. */
export function deploying(plan: PlanView | undefined): { job: string; into: string }[] {
  const all = (plan?.jobs ?? []).filter((job) => !job.skipped && job.deploys);
  return all.map((job) => ({ job: job.id, into: job.deploys ?? '' }));
}

/** What will happen, in one sentence. */
export function sentence(plan: PlanView | undefined, commit: string, ref: string): string {
  if (!plan) return '';
  const run = plan.jobs.filter((job) => !job.skipped).length;
  const skipped = plan.jobs.length - run;
  const rest = skipped === 0 ? '' : `, ${skipped} will be skipped`;
  return `Starts a run of ${commit.slice(0, 8)} (${ref}): ${many(run, 'job')}${rest}.`;
}

/** A job that was to go past the rules of its environment, and why it may not where it may not. */
export interface Entry {
  job: string;
  refused?: string;
}

/** What began, and how each job that was to go past the rules goes. */
export function begun(run: string, entries: Entry[]): { words: string; wrong: boolean } {
  const past = entries.filter((one) => !one.refused).map((one) => one.job);
  const refused = entries.filter((one) => one.refused);
  const words = [
    `${run} has begun.`,
    ...(past.length > 0 ? [`Past the rules: ${past.join(', ')}.`] : []),
    ...refused.map((one) => `By the rules: ${one.job}, since ${one.refused}.`),
  ];
  return { words: words.join(' '), wrong: refused.length > 0 };
}

/** The jobs of a plan as those of a run that has not begun. */
export function asJobs(plan: PlanView): Schemas['JobView'][] {
  return plan.jobs.map((job) => ({
    id: job.id,
    stage: job.stage,
    state: job.skipped ? 'skipped' : 'waiting',
    why: job.skipped,
    may_fail: false,
    by_hand: false,
    since: '1970-01-01T00:00:00Z',
    attempts: [],
  })) as unknown as Schemas['JobView'][];
}
