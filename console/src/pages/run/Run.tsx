// A run: the sentence, the facts, its jobs as lanes or as a graph, and the chosen job beside them.
import { useQuery } from '@tanstack/react-query';
import { Button } from 'antd';
import { lazy, useEffect, useState } from 'react';
import { Link, useNavigate, useParams, useSearchParams } from 'react-router';
import { answered, api, type JobView, queries, type RunView } from '../../api/client';
import { isEnd, Shape } from '../../look/states';
import { Trouble } from '../../parts/Trouble';
import { duration, exact, time, took, useNow } from '../../parts/words';
import { Graph } from './Graph';
import { JobPanel } from './JobPanel';
import { Lanes } from './Lanes';

const Tests = lazy(() => import('./Tests'));
const Artifacts = lazy(() => import('./Artifacts'));

const views = [
  ['lanes', 'Lanes'],
  ['graph', 'Graph'],
  ['tests', 'Tests'],
  ['artifacts', 'Artifacts'],
] as const;

export default function Run() {
  const { project = '', number = '', job } = useParams();
  const [search, setSearch] = useSearchParams();
  const navigate = useNavigate();
  const params = { path: { project, number: Number(number) } };
  const name = `${project}/${number}`;
  const run = useQuery({
    queryKey: ['run', name],
    queryFn: () => answered(api.GET('/api/v1/runs/{project}/{number}', { params })),
  });
  const planned = (run.data?.jobs?.length ?? 0) > 0;
  const plan = useQuery({
    queryKey: ['plan', name],
    staleTime: Number.POSITIVE_INFINITY,
    enabled: planned,
    queryFn: () => answered(api.GET('/api/v1/runs/{project}/{number}/plan', { params })),
  });
  const now = useNow(run.data ? !isEnd(run.data.state) : false);
  useFavicon(run.data);
  if (run.error) return <Trouble error={run.error} />;
  if (!run.data) return null;
  const jobs = run.data.jobs ?? [];
  const chosen = jobs.find((one) => one.id === job) ?? firstToShow(jobs);
  const view = views.find(([key]) => key === search.get('view'))?.[0] ?? 'lanes';
  const wide = view === 'tests' || view === 'artifacts';
  const choose = (id: string) =>
    navigate({ pathname: `/runs/${name}/${id}`, search: search.toString() }, { replace: true });
  return (
    <>
      <Heading run={run.data} now={now} />
      {run.data.diagnostics && run.data.diagnostics.length > 0 && <Diagnostics run={run.data} />}
      {jobs.length > 0 && (
        <div className={wide ? 'wide' : 'split'}>
          <section aria-label={wide ? 'Results' : 'Jobs'}>
            <div className="bar">
              <div className="words" role="tablist" aria-label="View">
                {views.map(([key, word]) => (
                  <button
                    key={key}
                    type="button"
                    role="tab"
                    aria-selected={view === key}
                    onClick={() => setSearch(key === 'lanes' ? {} : { view: key }, { replace: true })}
                  >
                    {word}
                  </button>
                ))}
              </div>
              <span className="grow" />
              <Counts run={run.data} />
              {isEnd(run.data.state) ? (
                <AgainButtons run={run.data} />
              ) : (
                <>
                  {run.data.held && <AllowButton project={project} number={Number(number)} />}
                  <StopButton project={project} number={Number(number)} />
                </>
              )}
            </div>
            {view === 'tests' && <Tests run={run.data} />}
            {view === 'artifacts' && <Artifacts run={run.data} />}
            <div className="scroll" hidden={wide}>
              {wide ? null : view === 'lanes' ? (
                <Lanes run={run.data} jobs={jobs} plan={plan.data} now={now} chosen={chosen?.id} onChoose={choose} />
              ) : (
                plan.data && <Graph plan={plan.data} jobs={jobs} now={now} chosen={chosen?.id} onChoose={choose} />
              )}
            </div>
          </section>
          <section aria-label="Chosen job" hidden={wide}>
            {!wide && chosen && <JobPanel key={chosen.id} run={run.data} job={chosen} plan={plan.data} now={now} />}
          </section>
        </div>
      )}
    </>
  );
}

/** What went wrong first, else what runs, else the last. */
function firstToShow(jobs: JobView[]): JobView | undefined {
  const failed = jobs.filter((job) => (job.state === 'failed' || job.state === 'lost') && !job.may_fail);
  failed.sort((a, b) => time(a.since) - time(b.since));
  return (
    failed[0] ?? jobs.find((job) => job.state === 'running') ?? jobs.find((job) => !isEnd(job.state)) ?? jobs.at(-1)
  );
}

function Heading({ run, now }: { run: RunView; now: number }) {
  const went = took(run, now);
  return (
    <>
      <h1 style={{ display: 'flex', gap: 10, alignItems: 'center' }} id="sentence">
        <Shape state={run.state} label />
        <span>{run.sentence}</span>
      </h1>
      {(run.uncached ?? []).length > 0 && (
        <ul id="uncached" className="soft" style={{ margin: '0 0 6px', paddingLeft: 18 }}>
          {run.uncached?.map((one) => (
            <li key={`${one.job} ${one.key} ${one.why}`}>
              {one.job}: cache <span className="code">{one.key}</span>: {one.why}
            </li>
          ))}
        </ul>
      )}
      <div className="facts num">
        <span>
          <span className="code">{run.commit.slice(0, 8)}</span> {run.commit_title}
          {run.commit_author && ` · ${run.commit_author}`}
        </span>
        {run.occasion.target && (
          <span>
            {run.occasion.event === 'landing' ? 'lands in' : 'proposed to'} {run.occasion.target}
          </span>
        )}
        {run.occasion.tag && <span>tag {run.occasion.tag}</span>}
        {run.branch && !run.occasion.tag && <span>on {run.branch}</span>}
        <span>{begun(run)}</span>
        {went !== undefined && run.counts.length > 0 && <span>{duration(went)}</span>}
        {run.usual_ms != null && run.counts.length > 0 && <span>usually passes in {duration(run.usual_ms)}</span>}
        {run.time && run.time.runner_ms > 0 && (
          <span title={`critical path: ${run.time.critical.join(' → ')}`}>
            {duration(run.time.runner_ms)} of runners, {duration(run.time.unlimited_ms)} with enough of them
          </span>
        )}
        {saved(run) && <span>{saved(run)}</span>}
        {run.allowed_by && <span>allowed by {run.allowed_by}</span>}
        {run.again_of != null && (
          <span>
            once more of{' '}
            <Link to={`/runs/${run.project}/${run.again_of}`}>
              {run.project}/{run.again_of}
            </Link>
          </span>
        )}
        <span title={exact(run.created_at)}>begun {exact(run.created_at)} UTC</span>
        {run.pipeline !== 'main' && <span>pipeline {run.pipeline}</span>}
      </div>
    </>
  );
}

/** What caches and earlier results spared this run. */
function saved(run: RunView): string | undefined {
  const jobs = run.jobs ?? [];
  const reused = jobs.filter((job) => job.state === 'reused').length;
  const caches = jobs.flatMap((job) => job.attempts.at(-1)?.caches ?? []);
  const restored = caches.filter((cache) => cache.restored).length;
  const parts = [
    reused > 0 && `${reused} ${reused === 1 ? 'job' : 'jobs'} reused`,
    caches.length > 0 && `${restored} of ${caches.length} caches restored`,
  ];
  return parts.filter(Boolean).join(', ') || undefined;
}

function Counts({ run }: { run: RunView }) {
  return (
    <span style={{ display: 'flex', gap: 12 }} className="num">
      {run.counts.map((count) => (
        <span key={count.state} className={`state s-${count.state}`}>
          <Shape state={count.state} /> {count.jobs} {count.state}
        </span>
      ))}
    </span>
  );
}

/** The same commit once more: what failed within this run, or all of it as a new one. */
function AgainButtons({ run }: { run: RunView }) {
  const navigate = useNavigate();
  const failed = run.jobs?.some((job) => ['failed', 'lost', 'stopped', 'overtaken', 'refused'].includes(job.state));
  const ask = async (what: { failed?: boolean }) => {
    const params = { path: { project: run.project, number: run.number } };
    const { data } = await api.POST('/api/v1/runs/{project}/{number}/again', { params, body: what });
    queries.invalidateQueries({ queryKey: ['run', run.run] });
    if (data && data.run !== run.run) navigate(`/runs/${data.run}`);
  };
  return (
    <>
      {failed && (
        <Button
          size="small"
          onClick={() => ask({ failed: true })}
          title="Within this run: what failed, and what follows it"
        >
          Failed again
        </Button>
      )}
      <Button size="small" onClick={() => ask({})} title="A new run of the same commit">
        All again
      </Button>
    </>
  );
}

/** A proposal from outside goes on once someone has looked at what it would run here. */
function AllowButton({ project, number }: { project: string; number: number }) {
  const [asked, setAsked] = useState(false);
  const allow = async () => {
    setAsked(true);
    await api.POST('/api/v1/runs/{project}/{number}/allow', { params: { path: { project, number } } });
    queries.invalidateQueries({ queryKey: ['run', `${project}/${number}`] });
  };
  return (
    <Button
      size="small"
      type="primary"
      disabled={asked}
      onClick={allow}
      title="It comes from outside: look at what it changes before it runs here"
    >
      {asked ? 'Allowing' : 'Allow'}
    </Button>
  );
}

function StopButton({ project, number }: { project: string; number: number }) {
  const [asked, setAsked] = useState(false);
  const stop = async () => {
    setAsked(true);
    await api.POST('/api/v1/runs/{project}/{number}/stop', { params: { path: { project, number } }, body: {} });
    queries.invalidateQueries({ queryKey: ['run', `${project}/${number}`] });
  };
  return (
    <Button size="small" disabled={asked} onClick={stop}>
      {asked ? 'Stopping' : 'Stop'}
    </Button>
  );
}

function Diagnostics({ run }: { run: RunView }) {
  return (
    <table className="sheet" style={{ maxWidth: '120ch' }}>
      <thead>
        <tr>
          <th>place</th>
          <th>kind</th>
          <th>what is wrong, and what to do</th>
        </tr>
      </thead>
      <tbody>
        {run.diagnostics?.map((one) => (
          <tr key={`${one.file}:${one.line}:${one.column}:${one.code}`}>
            <td className="code" style={{ whiteSpace: 'nowrap' }}>
              {one.file}:{one.line}:{one.column}
            </td>
            <td>
              <span className={one.severity === 'error' ? 's-failed' : 'soft'}>{one.severity}</span>{' '}
              <span className="soft">{one.code}</span>
            </td>
            <td>
              {one.message}
              {one.hint && <div className="soft">{one.hint}</div>}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** The mark in the tab takes the run's colour, so that a tab in the background tells when it turns. */
/** Who or what began the run. */
function begun({ occasion }: RunView): string {
  const by = occasion.by ?? 'someone';
  const words: Record<RunView['occasion']['event'], string> = {
    push: `pushed by ${by}`,
    tag: `pushed by ${by}`,
    proposal: `offered by ${by}`,
    by_hand: `started by ${by}`,
    schedule: 'by its schedule',
    pipeline: 'since another pipeline passed',
    landing: 'tried before it lands',
    promotion: `${occasion.from} promoted into ${occasion.environment} by ${by}`,
    closing: `${occasion.environment} closed by ${by}`,
    roll_back: `${occasion.environment} rolled back to ${occasion.from} by ${by}`,
  };
  return words[occasion.event];
}

function useFavicon(run: RunView | undefined) {
  const state = run?.state;
  const title = run ? `${run.run} ${run.state}` : 'Ordotaxis';
  useEffect(() => {
    document.title = title;
    const link = document.querySelector<HTMLLinkElement>('link[rel=icon]');
    if (!link || !state) return;
    const probe = document.createElement('i');
    probe.className = `s-${state}`;
    document.body.append(probe);
    const color = getComputedStyle(probe).color;
    probe.remove();
    const svg = `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 24 24"><path fill="${color}" d="M2 3h9v3H2zM6 8h9v3H6zM10 13h9v3h-9zM14 18h8v3h-8z"/></svg>`;
    link.href = `data:image/svg+xml,${encodeURIComponent(svg)}`;
    return () => {
      link.href = '/mark.svg';
      document.title = 'Ordotaxis';
    };
  }, [state, title]);
}
