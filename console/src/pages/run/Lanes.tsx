// Lanes: time runs to the right, a lane a job in graph order: its wait, set-up, steps and giving as segments; the
// critical path drawn through. The page's list of jobs, too: each lane is a button.
import { useLayoutEffect, useRef, useState } from 'react';
import type { JobView, PhaseView, PlanView, RunView } from '../../api/client';
import { Shape } from '../../look/states';
import { duration, time } from '../../parts/words';

type Props = {
  run: RunView;
  jobs: JobView[];
  plan: PlanView | undefined;
  now: number;
  chosen: string | undefined;
  onChoose: (id: string) => void;
};

export function Lanes({ run, jobs, plan, now, chosen, onChoose }: Props) {
  const from = time(run.started_at ?? run.created_at);
  const to = Math.max(from + 1, run.ended_at ? time(run.ended_at) : now);
  const at = (moment: number) => Math.min(100, Math.max(0, (100 * (moment - from)) / (to - from)));
  const path = criticalPath(jobs, plan);
  const tracks = useRef(new Map<string, HTMLElement>());
  const box = useRef<HTMLDivElement>(null);
  const line = useCriticalLine(box, tracks.current, path, jobs, at);
  return (
    <div className="lanes" ref={box}>
      <div className="axis num" aria-hidden="true">
        {ticks(to - from).map((tick) => (
          <span key={tick} className={at(from + tick) > 93 ? 'last' : ''} style={{ left: `${at(from + tick)}%` }}>
            {duration(tick)}
          </span>
        ))}
      </div>
      {jobs.map((job, index) => (
        <div key={job.id}>
          {job.stage !== jobs[index - 1]?.stage && <div className="stage">{job.stage}</div>}
          <button
            type="button"
            className="lane"
            aria-pressed={chosen === job.id}
            onClick={() => onChoose(job.id)}
            title={job.why ?? ''}
          >
            <span className="name">
              <Shape state={job.state} label />
              <span className="cut">{job.id}</span>
            </span>
            <span
              className="track"
              ref={(element) => {
                if (element) tracks.current.set(job.id, element);
                else tracks.current.delete(job.id);
              }}
            >
              <Segments job={job} readyAt={readyAt(job, jobs, plan, from)} at={at} now={now} />
            </span>
          </button>
        </div>
      ))}
      <svg className="critical" aria-hidden="true">
        <path d={line} />
      </svg>
    </div>
  );
}

function Segments({
  job,
  readyAt,
  at,
  now,
}: {
  job: JobView;
  readyAt: number;
  at: (moment: number) => number;
  now: number;
}) {
  const first = job.attempts[0];
  const last = job.attempts.at(-1);
  if (!first || !last) return job.state === 'waiting' ? null : <span className="after cut">{job.why}</span>;
  const end = last.ended_at ? time(last.ended_at) : now;
  const place = (begin: number, until: number) => ({
    left: `${at(begin)}%`,
    width: `${Math.max(0, at(until) - at(begin))}%`,
  });
  const wide = at(end) > 88;
  return (
    <>
      <span
        className="seg wait"
        style={place(readyAt, time(first.started_at))}
        title={`waited ${duration(time(first.started_at) - readyAt)}`}
      />
      {job.attempts.map((attempt) => {
        const until = attempt.ended_at ? time(attempt.ended_at) : now;
        return (
          <span key={attempt.number} className={`s-${attempt.state}`}>
            <span className="seg pale" style={place(time(attempt.started_at), until)} />
            {attempt.phases.map((phase) => (
              <Phase key={`${phase.kind}${phase.name}${phase.started_at}`} phase={phase} place={place} now={now} />
            ))}
          </span>
        );
      })}
      <span
        className={`after num ${wide ? 'left' : ''}`}
        style={{ left: wide ? `${at(Math.min(readyAt, time(first.started_at)))}%` : `${at(end)}%` }}
      >
        {duration(end - time(last.started_at))}
      </span>
    </>
  );
}

function Phase({
  phase,
  place,
  now,
}: {
  phase: PhaseView;
  place: (begin: number, until: number) => object;
  now: number;
}) {
  const begin = time(phase.started_at);
  const until = phase.duration_ms == null ? now : begin + phase.duration_ms;
  const kind = phase.kind === 'step' ? `step${phase.failed ? ' bad' : ''}` : 'pale';
  return (
    <span
      className={`seg ${kind}`}
      style={place(begin, until)}
      title={`${phase.kind} ${phase.name}: ${duration(until - begin)}`}
    />
  );
}

const endOf = (job: JobView) => time(job.attempts.at(-1)?.ended_at ?? job.since);

/** When the last job that this one waits for had ended. */
function readyAt(job: JobView, jobs: JobView[], plan: PlanView | undefined, from: number): number {
  const waits = plan?.jobs.find((planned) => planned.id === job.id)?.waits_for ?? [];
  const ends = waits
    .map((wait) => jobs.find((other) => other.id === wait.job))
    .filter((other): other is JobView => other !== undefined);
  return Math.max(from, ...ends.map(endOf));
}

/** From the job that ended last, back over what it waited for last. */
function criticalPath(jobs: JobView[], plan: PlanView | undefined): string[] {
  const ran = jobs.filter((job) => job.attempts.at(-1)?.ended_at);
  const latest = (some: JobView[]) =>
    some.reduce<JobView | undefined>((best, job) => (!best || endOf(job) > endOf(best) ? job : best), undefined);
  const path: string[] = [];
  for (let job = latest(ran); job; ) {
    path.unshift(job.id);
    const waits = plan?.jobs.find((planned) => planned.id === job?.id)?.waits_for.map((wait) => wait.job) ?? [];
    job = latest(ran.filter((other) => waits.includes(other.id)));
  }
  return path;
}

/** Joins the ends of the path's segments; measured from what is on the page. */
function useCriticalLine(
  box: React.RefObject<HTMLDivElement | null>,
  tracks: Map<string, HTMLElement>,
  path: string[],
  jobs: JobView[],
  at: (moment: number) => number,
): string {
  const [line, setLine] = useState('');
  const [width, setWidth] = useState(0);
  useLayoutEffect(() => {
    const watch = new ResizeObserver(() => setWidth(box.current?.clientWidth ?? 0));
    if (box.current) watch.observe(box.current);
    return () => watch.disconnect();
  }, [box]);
  const points = path.map((id) => {
    const job = jobs.find((one) => one.id === id);
    return {
      id,
      begin: job?.attempts.at(-1) ? at(time(job.attempts.at(-1)?.started_at ?? '')) : 0,
      end: job ? at(endOf(job)) : 0,
    };
  });
  const key = JSON.stringify(points);
  // biome-ignore lint/correctness/useExhaustiveDependencies: `key` and `width` stand for all that the line depends on
  useLayoutEffect(() => {
    const origin = box.current?.getBoundingClientRect();
    if (!origin) return;
    let drawn = '';
    for (const point of points) {
      const track = tracks.get(point.id)?.getBoundingClientRect();
      if (!track) continue;
      const x = (share: number) => (track.left - origin.left + (track.width * share) / 100).toFixed(1);
      const y = (track.top - origin.top + 14).toFixed(1);
      drawn += drawn === '' ? `M${x(point.begin)} ${y}` : `V${y}`;
      drawn += `H${x(point.end)}`;
    }
    setLine(drawn);
  }, [key, width]);
  return line;
}

/** Round moments that leave room for their words. */
function ticks(span: number): number[] {
  const steps = [
    100, 200, 500, 1000, 2000, 5000, 10_000, 15_000, 30_000, 60_000, 120_000, 300_000, 600_000, 1_800_000, 3_600_000,
  ];
  const step = steps.find((one) => span / one <= 7) ?? 3_600_000 * Math.ceil(span / 3_600_000 / 7);
  return Array.from({ length: Math.floor(span / step) + 1 }, (_, index) => index * step);
}
