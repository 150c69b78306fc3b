// What of a job's time is drawn: its wait, its set-up, its steps and what came after, each try by itself. The page and the
// exported drawing are made of the same segments.
import type { JobView, PhaseView, PlanView } from '../../../api/client';
import type { State } from '../../../look/marks';
import { duration, time } from '../../../parts/words';

export interface Segment {
  from: number;
  to: number;
  /** How it is drawn: hatched, pale, in the state's colour, or as a step that failed. */
  kind: 'wait' | 'pale' | 'step' | 'bad' | 'late' | 'whole';
  /** The state whose colour it has. */
  state: State;
  tells: string;
}

const endOf = (attempt: JobView['attempts'][number], now: number) => (attempt.ended_at ? time(attempt.ended_at) : now);

/** All segments of a job, in the order in which they are drawn. */
export function segmentsOf(job: JobView, readyAt: number, now: number): Segment[] {
  const [first] = job.attempts;
  if (!first) return [];
  const waited = time(first.started_at) - readyAt;
  const all: Segment[] = [];
  if (waited > 0)
    all.push({
      from: readyAt,
      to: time(first.started_at),
      kind: 'wait',
      state: 'waiting',
      tells: `waited ${duration(waited)}`,
    });
  job.attempts.forEach((attempt, index) => {
    const until = endOf(attempt, now);
    const whole = `${attempt.state} after ${duration(until - time(attempt.started_at))} on ${attempt.runner}`;
    all.push({ from: time(attempt.started_at), to: until, kind: 'pale', state: attempt.state, tells: whole });
    for (const phase of attempt.phases) all.push(ofPhase(phase, attempt.state, now));
    const next = job.attempts[index + 1];
    if (next)
      all.push({
        from: until,
        to: time(next.started_at),
        kind: 'wait',
        state: 'waiting',
        tells: `attempt ${attempt.number} ${attempt.state}: ${attempt.why ?? ''}; tried again ${duration(time(next.started_at) - until)} later`,
      });
  });
  return all;
}

function ofPhase(phase: PhaseView, state: State, now: number): Segment {
  const from = time(phase.started_at);
  const to = phase.duration_ms == null ? now : from + phase.duration_ms;
  const kind = phase.kind === 'step' ? (phase.failed ? 'bad' : 'step') : phase.kind === 'after' ? 'late' : 'pale';
  return { from, to, kind, state, tells: `${phase.kind} ${phase.name}: ${duration(to - from)}` };
}

/** When any of these jobs ran: for a folded matrix or stage. */
export function wholesOf(jobs: JobView[], now: number): Segment[] {
  return jobs.flatMap((job) =>
    job.attempts.map((attempt) => ({
      from: time(attempt.started_at),
      to: endOf(attempt, now),
      kind: 'whole' as const,
      state: attempt.state,
      tells: `${job.id} ${attempt.state}`,
    })),
  );
}

/** When the last job that one waits for had ended. */
export function readiness(jobs: JobView[], plan: PlanView | undefined, begin: number): (job: JobView) => number {
  const byId = new Map(jobs.map((job) => [job.id, job]));
  const waits = new Map(plan?.jobs.map((job) => [job.id, job.waits_for]));
  return (job) => {
    let ready = begin;
    for (const wait of waits.get(job.id) ?? []) {
      const other = wait.implied ? undefined : byId.get(wait.job);
      if (other) ready = Math.max(ready, time(other.attempts.at(-1)?.ended_at ?? other.since));
    }
    const begun = job.attempts[0] ? time(job.attempts[0].started_at) : ready;
    return Math.min(ready, begun);
  };
}

/** From the run's begin to its end, or to what was done after its end. */
export function extent(
  run: { started_at?: string | null; created_at: string; ended_at?: string | null },
  jobs: JobView[],
  now: number,
) {
  const from = time(run.started_at ?? run.created_at);
  let to = Math.max(from + 1, run.ended_at ? time(run.ended_at) : now);
  for (const job of jobs)
    for (const attempt of job.attempts) to = Math.max(to, endOf(attempt, run.ended_at ? to : now));
  return { from, to };
}
