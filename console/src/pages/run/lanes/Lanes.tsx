// Lanes: time runs to the right, a lane a job in graph order, the critical path drawn through. Stages and matrices fold
// under heads that sum them up; a filter leaves what is looked for; a part of the time is looked at more closely; another
// run stands behind for comparison. Each lane is a button: the page's list of jobs. Only rows in sight are on the page.
import { useVirtualizer } from '@tanstack/react-virtual';
import { useEffect, useMemo, useRef, useState } from 'react';
import type { JobView, PlanView, RunView } from '../../../api/client';
import { Shape, type State } from '../../../look/states';
import { useActs } from '../../../parts/acts';
import { Gap } from '../../../parts/Gap';
import { keep } from '../../../parts/keep';
import { Middle } from '../../../parts/Middle';
import { useSearchWords } from '../../../parts/useSearchWords';
import { duration, many, time } from '../../../parts/words';
import { Against, useAgainst } from './Against';
import { Axis } from './Axis';
import { drawing } from './drawing';
import { cellOf, countsOf, jobOf, stateOf } from './groups';
import { filtered, HEIGHT, type Open, type Order, type Row, rowsOf, tookOf } from './rows';
import { extent, readiness, segmentsOf, wholesOf } from './segments';
import { Track } from './Track';
import { at, moved, type Span, within, zoomed } from './time';
import './lanes.css';
import { useSearch } from '../../../parts/useSearch';

interface Props {
  run: RunView;
  jobs: JobView[];
  plan: PlanView | undefined;
  now: number;
  chosen: string | undefined;
  onChoose: (id: string) => void;
}

export function Lanes({ run, jobs, plan, now, chosen, onChoose }: Props) {
  const filter = useFilter();
  const all = extent(run, jobs, now);
  const { part, setPart, isWhole } = usePart(all);
  const against = useAgainst(run, jobs, now);
  const rows = useMemo(() => rowsOf(jobs, { ...filter.wanted, chosen }, now), [jobs, filter.wanted, chosen, now]);
  const ready = useMemo(() => readiness(jobs, plan, all.from), [jobs, plan, all.from]);
  const field = useRef<HTMLInputElement>(null);
  const left = filtered(jobs, filter.wanted).length;
  const exported = () =>
    keep(
      `${run.project}-${run.number}-lanes.svg`,
      'image/svg+xml',
      drawing({
        title: `${run.run} ${run.state}`,
        sentence: run.sentence,
        rows,
        part,
        begin: all.from,
        now,
        ready,
        colour,
      }),
    );
  const middle = (part.from + part.to) / 2;
  useActs('Lanes', [
    { name: 'Filter the jobs', key: 'g', run: () => field.current?.focus() },
    { name: 'Look closer', key: '+', run: () => setPart(zoomed(part, all, middle, 2)) },
    { name: 'Look from further off', key: '-', run: () => setPart(zoomed(part, all, middle, 0.5)) },
    { name: 'The whole time', key: '0', run: () => setPart(all) },
    { name: 'Earlier', key: ',', run: () => setPart(moved(part, all, -0.4)) },
    { name: 'Later', key: '.', run: () => setPart(moved(part, all, 0.4)) },
    { name: 'Open all stages', run: () => filter.setStages('all', jobs) },
    { name: 'Shut all stages', run: () => filter.setStages('shut', jobs) },
    { name: 'Lanes as an SVG file', run: exported },
  ]);
  return (
    <div className="lanes-pane">
      <search className="lanes-bar">
        <input
          ref={field}
          className="field"
          type="search"
          aria-label="Filter jobs"
          placeholder="filter jobs"
          value={filter.wanted.words}
          onChange={(event) => filter.setWords(event.target.value)}
        />
        <States jobs={jobs} is={filter.wanted.states} onTurn={filter.turnState} />
        <button
          type="button"
          className="link"
          aria-pressed={filter.wanted.order === 'slowest'}
          onClick={() => filter.setOrder(filter.wanted.order === 'slowest' ? 'plan' : 'slowest')}
        >
          slowest first
        </button>
        <span className="soft num" aria-live="polite">
          {left < jobs.length && `${left} of ${many(jobs.length, 'job')}`}
        </span>
        <span className="grow" />
        {!isWhole && (
          <button type="button" className="link" title="0" onClick={() => setPart(all)}>
            whole time
          </button>
        )}
        <Against {...against} onChoose={onChoose} />
        <button type="button" className="link" onClick={exported}>
          SVG
        </button>
      </search>
      <Rows
        {...{ run, rows, part, all, now, ready, chosen, onChoose, setPart, ghosts: against.ghosts }}
        onStage={filter.setStage}
        onGroup={filter.setGroup}
      />
    </div>
  );
}

const colour = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(`--${name}`).trim();

/** What is looked for is in the address; what is folded is not. */
function useFilter() {
  const [search, put] = useSearch();
  const [stages, setStages] = useState<Record<string, Open>>({});
  const [groups, setGroups] = useState<Record<string, boolean>>({});
  const [words, setWords] = useSearchWords('jobs');
  const named = search.get('states') ?? '';
  const order: Order = search.get('order') === 'slowest' ? 'slowest' : 'plan';
  const wanted = useMemo(
    () => ({ words, states: named.split(',').filter(Boolean) as State[], order, stages, groups }),
    [words, named, order, stages, groups],
  );
  return {
    wanted,
    setWords,
    setOrder: (next: Order) => put('order', next === 'plan' ? '' : next),
    turnState: (state: State) => {
      const { states } = wanted;
      put('states', (states.includes(state) ? states.filter((one) => one !== state) : [...states, state]).join(','));
    },
    setStage: (name: string, open: Open) => setStages((known) => ({ ...known, [name]: open })),
    setStages: (open: Open, jobs: JobView[]) => setStages(Object.fromEntries(jobs.map((job) => [job.stage, open]))),
    setGroup: (name: string, open: boolean) => setGroups((known) => ({ ...known, [name]: open })),
  };
}

/** The part of the time that is looked at; while it is the whole, it grows with the run. */
function usePart(all: Span) {
  const [chosen, setChosen] = useState<Span>();
  const part = chosen ? within(chosen, all) : all;
  const setPart = (next: Span) => setChosen(next.from <= all.from && next.to >= all.to ? undefined : next);
  return { part, setPart, isWhole: chosen === undefined };
}

/** How many jobs are in each state; each is a filter. */
function States({ jobs, is, onTurn }: { jobs: JobView[]; is: State[]; onTurn: (state: State) => void }) {
  return (
    <fieldset className="states bare" aria-label="Only jobs that are">
      {countsOf(jobs).map(([state, count]) => (
        <button
          key={state}
          type="button"
          className={`link s-${state}`}
          aria-pressed={is.includes(state)}
          aria-label={`${count} ${state}`}
          title={`only ${state}`}
          onClick={() => onTurn(state)}
        >
          <Shape state={state} /> {count}
        </button>
      ))}
    </fieldset>
  );
}

interface RowsProps {
  run: RunView;
  rows: Row[];
  part: Span;
  all: Span;
  now: number;
  ready: (job: JobView) => number;
  chosen: string | undefined;
  onChoose: (id: string) => void;
  setPart: (part: Span) => void;
  ghosts: ReturnType<typeof useAgainst>['ghosts'];
  onStage: (name: string, open: Open) => void;
  onGroup: (name: string, open: boolean) => void;
}

function Rows(props: RowsProps) {
  const { run, rows, part, all, now, setPart } = props;
  const box = useRef<HTMLDivElement>(null);
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => box.current,
    estimateSize: (row) => HEIGHT[rows[row]?.kind ?? 'lane'],
    overscan: 12,
  });
  // biome-ignore lint/correctness/useExhaustiveDependencies: measured again whenever the rows are others
  useEffect(() => virtual.measure(), [rows]);
  const items = virtual.getVirtualItems();
  const top = items[0]?.start ?? 0;
  return (
    <div className="lanes scroll" ref={box}>
      <Axis part={part} all={all} rows={rows} now={now} onPart={setPart} />
      <div className="lane-rows">
        <Gap height={top} />
        {items.map((item) => {
          const row = rows[item.index];
          return row && <OneRow key={keyOf(row)} row={row} {...props} />;
        })}
        <Gap height={virtual.getTotalSize() - (items.at(-1)?.end ?? 0)} />
        <Critical run={run} rows={rows} part={part} now={now} height={virtual.getTotalSize()} />
      </div>
    </div>
  );
}

function keyOf(row: Row): string {
  if (row.kind === 'lane') return row.job.id;
  return row.kind === 'group'
    ? `group ${row.group.name}`
    : `${row.kind} ${row.kind === 'stage' ? row.name : row.stage}`;
}

function OneRow({ row, part, all, now, ready, chosen, onChoose, ghosts, onStage, onGroup }: RowsProps & { row: Row }) {
  if (row.kind === 'stage') {
    const next: Open = row.open === 'all' ? 'shut' : 'all';
    return (
      <button
        type="button"
        className="lane stage"
        aria-expanded={row.open !== 'shut'}
        onClick={() => onStage(row.name, next)}
      >
        <span className="name">
          <span aria-hidden="true">{row.open === 'shut' ? '▸' : '▾'}</span>
          <Middle name={row.name} />
          <Sum jobs={row.jobs} />
        </span>
        {row.open !== 'all' && <Track segments={wholesOf(row.jobs, now)} part={part} begin={all.from} />}
      </button>
    );
  }
  if (row.kind === 'others')
    return (
      <button type="button" className="lane others" onClick={() => onStage(row.stage, 'all')}>
        and {many(row.jobs.length, 'more job')} that need no look
      </button>
    );
  if (row.kind === 'group') {
    const { group, open } = row;
    return (
      <button type="button" className="lane group" aria-expanded={open} onClick={() => onGroup(group.name, !open)}>
        <span className="name">
          <span aria-hidden="true">{open ? '▾' : '▸'}</span>
          <Shape state={stateOf(group.cells)} label />
          <Middle name={group.name} />
          <Sum jobs={group.cells} />
        </span>
        {!open && <Track segments={wholesOf(group.cells, now)} part={part} begin={all.from} />}
      </button>
    );
  }
  const { job, cell } = row;
  const segments = segmentsOf(job, ready(job), now);
  const last = job.attempts.at(-1);
  const tries = job.attempts.length > 1 ? `, attempt ${last?.number}` : '';
  return (
    <button
      type="button"
      className={`lane ${cell ? 'cell' : ''}`}
      data-row={job.id}
      aria-pressed={chosen === job.id}
      onClick={() => onChoose(job.id)}
      title={job.why ?? ''}
    >
      <span className="name">
        <Shape state={job.state} label />
        {cell && <span className="hidden">{jobOf(job.id)} </span>}
        <Middle name={cell ? cellOf(job.id) : job.id} />
        {last && <span className="hidden">, {duration(tookOf(job, now))}</span>}
      </span>
      {last ? (
        <Track
          segments={segments}
          part={part}
          begin={all.from}
          ghost={ghosts?.get(job.id)}
          label={`${duration(tookOf(job, now))}${tries}`}
        />
      ) : (
        <span className="after cut">{job.state === 'waiting' ? '' : job.why}</span>
      )}
    </button>
  );
}

/** How many of them are well, or what else there is to say of them. */
function Sum({ jobs }: { jobs: JobView[] }) {
  const good = jobs.filter((job) => job.state === 'passed' || job.state === 'reused').length;
  const bad = jobs.filter((job) => job.state === 'failed' || job.state === 'lost').length;
  return (
    <span className="soft num">
      {good}/{jobs.length}
      {bad > 0 && <span className="s-failed"> {bad} failed</span>}
    </span>
  );
}

/** The critical path: joins the ends of its segments, row by row; what is folded is joined at its head. */
function Critical({
  run,
  rows,
  part,
  now,
  height,
}: {
  run: RunView;
  rows: Row[];
  part: Span;
  now: number;
  height: number;
}) {
  const lines = useMemo(() => pathOf(run, rows, part, now), [run, rows, part, now]);
  return (
    <svg className="critical" height={height} aria-hidden="true">
      {lines.map((line) => (
        <line key={`${line.x1} ${line.y1} ${line.x2} ${line.y2}`} {...line} />
      ))}
    </svg>
  );
}

function pathOf(run: RunView, rows: Row[], part: Span, now: number) {
  const place = new Map<string, { job: JobView; y: number }>();
  let top = 0;
  for (const row of rows) {
    const y = top + HEIGHT[row.kind] / 2;
    if (row.kind === 'lane') place.set(row.job.id, { job: row.job, y });
    const under =
      row.kind === 'group' ? row.group.cells : row.kind === 'stage' || row.kind === 'others' ? row.jobs : [];
    for (const job of under) if (!place.has(job.id)) place.set(job.id, { job, y });
    top += HEIGHT[row.kind];
  }
  const lines: { x1: string; y1: number; x2: string; y2: number }[] = [];
  let before: { x: string; y: number } | undefined;
  for (const id of run.time?.critical ?? []) {
    const spot = place.get(id);
    const last = spot?.job.attempts.at(-1);
    if (!spot || !last) continue;
    const end = `${at(part, last.ended_at ? time(last.ended_at) : now)}%`;
    // From the end of the one before down to this row, and along it: also while this one waited.
    if (before && before.y !== spot.y) lines.push({ x1: before.x, y1: before.y, x2: before.x, y2: spot.y });
    lines.push({ x1: before?.x ?? `${at(part, time(last.started_at))}%`, y1: spot.y, x2: end, y2: spot.y });
    before = { x: end, y: spot.y };
  }
  return lines;
}
