// Lanes: time runs to the right, a lane a job in graph order: its wait, set-up, helpers, steps, giving and what came
// afterwards as segments, each try by itself; the critical path drawn through. Cells of a matrix stand under one head
// that folds. The page's list of jobs, too: each lane is a button. Only the rows in sight are on the page.
import { useVirtualizer } from '@tanstack/react-virtual';
import { useEffect, useMemo, useRef, useState } from 'react';
import type { JobView, PhaseView, PlanView, RunView } from '../../api/client';
import { Shape } from '../../look/states';
import { duration, time } from '../../parts/words';
import { cellOf, type Group, grouped, stateOf } from './groups';
import './lanes.css';

type Props = {
  run: RunView;
  jobs: JobView[];
  plan: PlanView | undefined;
  now: number;
  chosen: string | undefined;
  onChoose: (id: string) => void;
};

type Row =
  | { kind: 'stage'; name: string }
  | { kind: 'group'; group: Group; open: boolean }
  | { kind: 'lane'; job: JobView; cell: boolean };

const HEIGHT = { stage: 24, group: 28, lane: 28 };
/** A matrix of more cells begins folded. */
const OPEN_CELLS = 8;
/** Where the tracks begin; the same in look.css. */
const NAMES = 216;

export function Lanes({ run, jobs, plan, now, chosen, onChoose }: Props) {
  const [folded, setFolded] = useState<Record<string, boolean>>({});
  const from = time(run.started_at ?? run.created_at);
  const to = Math.max(from + 1, run.ended_at ? time(run.ended_at) : now, ...lastEnds(jobs));
  const at = (moment: number) => Math.min(100, Math.max(0, (100 * (moment - from)) / (to - from)));
  const rows = useMemo(() => toRows(jobs, folded, chosen), [jobs, folded, chosen]);
  const ready = useReady(jobs, plan, from);
  const box = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => box.current?.closest<HTMLElement>('.scroll') ?? null,
    estimateSize: (row) => HEIGHT[rows[row]?.kind ?? 'lane'],
    overscan: 12,
  });
  // biome-ignore lint/correctness/useExhaustiveDependencies: measured again whenever the rows are others
  useEffect(() => virtual.measure(), [rows]);
  const width = useWidth(box) - NAMES - 16;
  const height = virtual.getTotalSize();
  return (
    <div className="lanes" ref={box}>
      <div className="axis num" aria-hidden="true">
        {ticks(to - from).map((tick) => (
          <span key={tick} className={at(from + tick) > 93 ? 'last' : ''} style={{ left: `${at(from + tick)}%` }}>
            {duration(tick)}
          </span>
        ))}
      </div>
      <div style={{ position: 'relative', height }}>
        {virtual.getVirtualItems().map((item) => {
          const row = rows[item.index];
          return (
            <div key={item.key} className="lane-row" style={{ transform: `translateY(${item.start}px)` }}>
              {row?.kind === 'stage' && <div className="stage">{row.name}</div>}
              {row?.kind === 'group' && (
                <Head
                  group={row.group}
                  open={row.open}
                  at={at}
                  now={now}
                  onFold={() => setFolded((known) => ({ ...known, [row.group.name]: row.open }))}
                />
              )}
              {row?.kind === 'lane' && (
                <Lane
                  job={row.job}
                  cell={row.cell}
                  readyAt={ready(row.job)}
                  at={at}
                  now={now}
                  chosen={chosen === row.job.id}
                  onChoose={onChoose}
                />
              )}
            </div>
          );
        })}
        <svg className="critical" aria-hidden="true" style={{ left: NAMES, width: Math.max(0, width), height }}>
          <path d={criticalLine(run, rows, at, Math.max(0, width), now)} />
        </svg>
      </div>
    </div>
  );
}

function toRows(jobs: JobView[], folded: Record<string, boolean>, chosen: string | undefined): Row[] {
  const rows: Row[] = [];
  let stage: string | undefined;
  for (const group of grouped(jobs)) {
    if (group.stage !== stage) rows.push({ kind: 'stage', name: group.stage });
    stage = group.stage;
    const [only] = group.cells;
    if (group.cells.length === 1 && only) {
      rows.push({ kind: 'lane', job: only, cell: false });
      continue;
    }
    const wanted = group.cells.some((cell) => cell.id === chosen);
    const open = !(folded[group.name] ?? (group.cells.length > OPEN_CELLS && !wanted));
    rows.push({ kind: 'group', group, open });
    if (open) for (const job of group.cells) rows.push({ kind: 'lane', job, cell: true });
  }
  return rows;
}

/** The head of a matrix: how its cells are, and when any of them ran. */
function Head({
  group,
  open,
  at,
  now,
  onFold,
}: {
  group: Group;
  open: boolean;
  at: (moment: number) => number;
  now: number;
  onFold: () => void;
}) {
  const good = group.cells.filter((cell) => cell.state === 'passed' || cell.state === 'reused').length;
  return (
    <button type="button" className="lane group" aria-expanded={open} onClick={onFold}>
      <span className="name">
        <span aria-hidden="true">{open ? '▾' : '▸'}</span>
        <Shape state={stateOf(group.cells)} label />
        <span className="cut">{group.name}</span>
        <span className="soft num">
          {good}/{group.cells.length}
        </span>
      </span>
      <span className="track">
        {!open &&
          group.cells.map((cell) =>
            cell.attempts.map((attempt) => {
              const until = attempt.ended_at ? time(attempt.ended_at) : now;
              const left = at(time(attempt.started_at));
              const style = { left: `${left}%`, width: `${Math.max(0, at(until) - left)}%` };
              return (
                <span key={`${cell.id} ${attempt.number}`} className={`seg thin s-${attempt.state}`} style={style} />
              );
            }),
          )}
      </span>
    </button>
  );
}

function Lane({
  job,
  cell,
  readyAt,
  at,
  now,
  chosen,
  onChoose,
}: {
  job: JobView;
  cell: boolean;
  readyAt: number;
  at: (moment: number) => number;
  now: number;
  chosen: boolean;
  onChoose: (id: string) => void;
}) {
  return (
    <button
      type="button"
      className={`lane ${cell ? 'cell' : ''}`}
      aria-pressed={chosen}
      aria-label={cell ? `${job.state} ${job.id}` : undefined}
      onClick={() => onChoose(job.id)}
      title={job.why ?? ''}
    >
      <span className="name">
        <Shape state={job.state} label={!cell} />
        <span className="cut">{cell ? cellOf(job.id) : job.id}</span>
      </span>
      <span className="track">
        <Segments job={job} readyAt={readyAt} at={at} now={now} />
      </span>
    </button>
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
      {job.attempts.map((attempt, index) => {
        const until = attempt.ended_at ? time(attempt.ended_at) : now;
        const next = job.attempts[index + 1];
        return (
          <span key={attempt.number} className={`s-${attempt.state}`}>
            <span className="seg pale" style={place(time(attempt.started_at), until)} />
            {attempt.phases.map((phase) => (
              <Phase key={`${phase.kind}${phase.name}${phase.started_at}`} phase={phase} place={place} now={now} />
            ))}
            {next && (
              <span
                className="seg wait"
                style={place(until, time(next.started_at))}
                title={`attempt ${attempt.number} ${attempt.state}: ${attempt.why ?? ''}; tried again ${duration(time(next.started_at) - until)} later`}
              />
            )}
          </span>
        );
      })}
      <span
        className={`after num ${wide ? 'left' : ''}`}
        style={{ left: wide ? `${at(Math.min(readyAt, time(first.started_at)))}%` : `${at(end)}%` }}
      >
        {duration(end - time(last.started_at))}
        {job.attempts.length > 1 && `, attempt ${last.number}`}
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
  const kind = phase.kind === 'step' ? `step${phase.failed ? ' bad' : ''}` : phase.kind === 'after' ? 'late' : 'pale';
  return (
    <span
      className={`seg ${kind}`}
      style={place(begin, until)}
      title={`${phase.kind} ${phase.name}: ${duration(until - begin)}`}
    />
  );
}

const endOf = (job: JobView) => time(job.attempts.at(-1)?.ended_at ?? job.since);

/** What was started by hand, or done again, can end after the run's verdict. */
function lastEnds(jobs: JobView[]): number[] {
  let last = 0;
  for (const job of jobs)
    for (const attempt of job.attempts) if (attempt.ended_at) last = Math.max(last, time(attempt.ended_at));
  return [last];
}

/** When the last job that one waits for had ended. */
function useReady(jobs: JobView[], plan: PlanView | undefined, from: number): (job: JobView) => number {
  const byId = useMemo(() => new Map(jobs.map((job) => [job.id, job])), [jobs]);
  const waits = useMemo(() => new Map(plan?.jobs.map((job) => [job.id, job.waits_for])), [plan]);
  return (job) => {
    let ready = from;
    for (const wait of waits.get(job.id) ?? []) {
      const other = byId.get(wait.job);
      if (other && !wait.implied) ready = Math.max(ready, endOf(other));
    }
    const begun = job.attempts[0] ? time(job.attempts[0].started_at) : ready;
    return Math.min(ready, begun);
  };
}

/** Joins the ends of the path's segments, row by row; a folded matrix is joined at its head. */
function criticalLine(run: RunView, rows: Row[], at: (moment: number) => number, width: number, now: number): string {
  const place = new Map<string, { job: JobView; y: number }>();
  let top = 0;
  for (const row of rows) {
    const y = top + 14;
    if (row.kind === 'lane') place.set(row.job.id, { job: row.job, y });
    if (row.kind === 'group') for (const cell of row.group.cells) place.set(cell.id, { job: cell, y });
    top += HEIGHT[row.kind];
  }
  let drawn = '';
  for (const id of run.time?.critical ?? []) {
    const spot = place.get(id);
    const last = spot?.job.attempts.at(-1);
    if (!spot || !last) continue;
    const x = (moment: number) => ((width * at(moment)) / 100).toFixed(1);
    const begin = x(time(last.started_at));
    drawn += drawn === '' ? `M${begin} ${spot.y}` : `V${spot.y}`;
    drawn += `H${x(last.ended_at ? time(last.ended_at) : now)}`;
  }
  return drawn;
}

function useWidth(box: React.RefObject<HTMLDivElement | null>): number {
  const [width, setWidth] = useState(0);
  useEffect(() => {
    const watch = new ResizeObserver(() => setWidth(box.current?.clientWidth ?? 0));
    if (box.current) watch.observe(box.current);
    return () => watch.disconnect();
  }, [box]);
  return width;
}

/** Round moments that leave room for their words. */
function ticks(span: number): number[] {
  const steps = [
    100, 200, 500, 1000, 2000, 5000, 10_000, 15_000, 30_000, 60_000, 120_000, 300_000, 600_000, 1_800_000, 3_600_000,
  ];
  const step = steps.find((one) => span / one <= 7) ?? 3_600_000 * Math.ceil(span / 3_600_000 / 7);
  return Array.from({ length: Math.floor(span / step) + 1 }, (_, index) => index * step);
}
