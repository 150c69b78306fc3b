// A run: the sentence, the facts, its jobs as lanes or as a graph, and the chosen job beside them, or alone at full width.
import { lazy, Suspense } from 'react';
import { useNavigate, useParams, useSearchParams } from 'react-router';
import type { JobView, PlanView, RunView } from '../../api/client';
import { isEnd } from '../../look/states';
import { useActs } from '../../parts/acts';
import { useKept } from '../../parts/kept';
import { useNow } from '../../parts/now';
import { Split } from '../../parts/Split';
import { Trouble } from '../../parts/Trouble';
import { many } from '../../parts/words';
import { AgainButtons, AllowButton, StopButton } from './Acts';
import { firstToShow, isBad, nextBad } from './choose';
import { useFavicon } from './favicon';
import { Heading } from './Heading';
import { JobPanel } from './JobPanel';
import { Lanes } from './lanes/Lanes';
import { useRun } from './useRun';

const Graph = lazy(async () => ({ default: (await import('./graph/Graph')).Graph }));
const Tests = lazy(() => import('./Tests'));
const Artifacts = lazy(() => import('./Artifacts'));
const Mistakes = lazy(async () => ({ default: (await import('./Mistakes')).Mistakes }));

const views = [
  ['lanes', 'Lanes'],
  ['graph', 'Graph'],
  ['tests', 'Tests'],
  ['artifacts', 'Artifacts'],
] as const;
type View = (typeof views)[number][0];

export default function Run() {
  const { project = '', number = '', job } = useParams();
  const { run, plan } = useRun(project, Number(number), job);
  const now = useNow(run.data ? !isEnd(run.data.state) : false);
  useFavicon(run.data);
  if (run.error) return <Trouble error={run.error} />;
  if (!run.data) return null;
  const jobs = run.data.jobs ?? [];
  return (
    <>
      <Heading run={run.data} now={now} />
      {run.data.diagnostics && run.data.diagnostics.length > 0 && (
        <Suspense fallback={null}>
          <Mistakes run={run.data} />
        </Suspense>
      )}
      {jobs.length > 0 && <Jobs run={run.data} jobs={jobs} plan={plan.data} now={now} />}
    </>
  );
}

function Jobs({ run, jobs, plan, now }: { run: RunView; jobs: JobView[]; plan: PlanView | undefined; now: number }) {
  const { job } = useParams();
  const [search, setSearch] = useSearchParams();
  const navigate = useNavigate();
  const [alone, setAlone] = useKept<boolean>('run.alone', false);
  const chosen = jobs.find((one) => one.id === job) ?? firstToShow(jobs);
  const view = views.find(([key]) => key === search.get('view'))?.[0] ?? 'lanes';
  const results = view === 'tests' || view === 'artifacts';
  const choose = (id: string) => {
    const kept = new URLSearchParams(search);
    // What was looked for in one job's log is not looked for in another's.
    kept.delete('find');
    navigate({ pathname: `/runs/${run.run}/${encodeURIComponent(id)}`, search: kept.toString() }, { replace: true });
  };
  const toBad = (by: 1 | -1) => {
    const next = nextBad(jobs, chosen?.id, by);
    if (next) choose(next.id);
  };
  useActs('Run', [
    {
      name: alone ? 'The jobs and the chosen one' : 'The chosen job at full width',
      key: 'w',
      run: () => setAlone(!alone),
    },
    { name: 'The next job that failed', key: 'f', run: () => toBad(1) },
    { name: 'The job before that failed', key: 'F', run: () => toBad(-1) },
    ...views.map(([key, word]) => ({ name: `Show ${word}`, run: () => setSearch({ view: key }, { replace: true }) })),
  ]);
  const words = (
    <Views view={view} onView={(key) => setSearch(key === 'lanes' ? {} : { view: key }, { replace: true })} />
  );
  const bar = (
    <div className="bar">
      {words}
      <span className="grow" />
      <RunActs run={run} />
    </div>
  );
  if (results)
    return (
      <div className="wide">
        <section aria-label="Results">
          {bar}
          <Suspense fallback={null}>{view === 'tests' ? <Tests run={run} /> : <Artifacts run={run} />}</Suspense>
        </section>
      </div>
    );
  const bad = jobs.filter(isBad).length;
  return (
    <Split
      name="run"
      usual={45}
      labels={['Jobs', 'Chosen job']}
      only={alone ? 'right' : undefined}
      left={
        <>
          {bar}
          <div className="pane">
            <Suspense fallback={null}>
              {view === 'lanes' ? (
                <Lanes run={run} jobs={jobs} plan={plan} now={now} chosen={chosen?.id} onChoose={choose} />
              ) : (
                plan && <Graph plan={plan} jobs={jobs} now={now} chosen={chosen?.id} onChoose={choose} />
              )}
            </Suspense>
          </div>
        </>
      }
      right={
        <>
          <div className="bar above-job">
            <button type="button" className="link" aria-pressed={alone} title="w" onClick={() => setAlone(!alone)}>
              {alone ? `← all ${many(jobs.length, 'job')}` : 'full width'}
            </button>
            {bad > 1 && (
              <>
                <button type="button" className="link" title="F" onClick={() => toBad(-1)}>
                  failed before
                </button>
                <button type="button" className="link" title="f" onClick={() => toBad(1)}>
                  next of {bad} failed
                </button>
              </>
            )}
            {alone && (
              <>
                <span className="grow" />
                <RunActs run={run} />
              </>
            )}
          </div>
          {chosen && <JobPanel key={chosen.id} run={run} job={chosen} plan={plan} now={now} />}
        </>
      }
    />
  );
}

function Views({ view, onView }: { view: View; onView: (view: View) => void }) {
  return (
    <div className="words" role="tablist" aria-label="View">
      {views.map(([key, word]) => (
        <button key={key} type="button" role="tab" aria-selected={view === key} onClick={() => onView(key)}>
          {word}
        </button>
      ))}
    </div>
  );
}

function RunActs({ run }: { run: RunView }) {
  if (isEnd(run.state)) return <AgainButtons run={run} />;
  return (
    <>
      {run.held && <AllowButton project={run.project} number={run.number} />}
      <StopButton run={run} />
    </>
  );
}
