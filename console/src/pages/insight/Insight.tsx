// Insight: what the history of a project's jobs comes to. What changed stands first; then each job with how long it takes and
// queues; a job opens with its history as a plot and its steps.
import { useQuery } from '@tanstack/react-query';
import { lazy, Suspense, useState } from 'react';
import { Link, useParams } from 'react-router';
import { answered, api, type Schemas } from '../../api/client';
import { Shape } from '../../look/states';
import { ProjectWords } from '../../parts/ProjectWords';
import { Trouble } from '../../parts/Trouble';
import { bytes, duration, many } from '../../parts/words';
import '../run/tests.css';
import { Days } from './Days';
import './insight.css';
import { jobName, length, money } from './say';

type Found = Schemas['ProjectInsight'];
type Job = Schemas['JobInsight'];

const History = lazy(() => import('./History'));

export default function Insight() {
  const { project = '' } = useParams();
  const [days, setDays] = useState(30);
  const { data, error } = useQuery({
    queryKey: ['insight-jobs', project, days],
    queryFn: () =>
      answered(api.GET('/api/v1/projects/{project}/insight/jobs', { params: { path: { project }, query: { days } } })),
    refetchInterval: 30_000,
  });
  return (
    <>
      <ProjectWords project={project} at="insight" />
      <div className="bar insight-bar">
        <Days days={days} onDays={setDays} />
        <span className="grow" />
        <a href={`/api/v1/projects/${encodeURIComponent(project)}/insight/attempts.csv?days=${days}`} download>
          Every attempt as CSV
        </a>
      </div>
      {error && <Trouble error={error} />}
      {data && data.jobs.length === 0 && <p className="empty">No job of {project} ended in that time.</p>}
      {data && data.jobs.length > 0 && <Figures found={data} />}
    </>
  );
}

function Figures({ found }: { found: Found }) {
  const slower = found.jobs.filter((job) => job.change && job.change.after_ms > job.change.before_ms);
  return (
    <>
      <Facts found={found} />
      {slower.length > 0 && (
        <section aria-label="What got slower">
          <h2 className="pad">Slower than it was</h2>
          <table className="sheet">
            <tbody>
              {slower.map((job) => (
                <tr key={jobName(job)}>
                  <td>{jobName(job)}</td>
                  <td>{job.change && <Change change={job.change} />}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
      )}
      <h2 className="pad" title="half of all took no longer than the one, nine in ten no longer than the other">
        Jobs
      </h2>
      <Jobs jobs={found.jobs} />
      {found.more_jobs > 0 && (
        <p className="soft">
          {many(found.more_jobs, 'job')} that took less {found.more_jobs === 1 ? 'is' : 'are'} not listed.
        </p>
      )}
      {found.cut && <p className="soft">There were more attempts than are looked at: these are the newest.</p>}
      <h2 className="pad">Branches</h2>
      <Branches branches={found.branches} />
    </>
  );
}

function Facts({ found }: { found: Found }) {
  const facts: [string, string][] = [["runners' time", duration(found.runner_ms)]];
  if (found.cost != null) facts.push(['its share of machines', money(found.cost)]);
  facts.push([
    'failed, then passed',
    found.retried === 0 ? 'never' : `${found.retried}: ${duration(found.retried_ms)} in vain`,
  ]);
  facts.push([
    'results taken over',
    found.reused === 0 ? 'none' : `${found.reused}: ${duration(found.reused_ms)} saved`,
  ]);
  if (found.caches > 0)
    facts.push(['caches found', `${found.caches_restored} of ${found.caches}, ${bytes(found.caches_bytes)}`]);
  return (
    <dl className="facts">
      {facts.map(([what, value]) => (
        <div key={what}>
          <dt>{what}</dt>
          <dd className="num">{value}</dd>
        </div>
      ))}
    </dl>
  );
}

function Change({ change }: { change: Schemas['ChangeView'] }) {
  const slower = change.after_ms > change.before_ms;
  return (
    <span className={`change ${slower ? 's-failed' : 's-passed'}`}>
      {slower ? 'slower' : 'faster'} since <Link to={`/runs/${change.run}`}>{change.run}</Link>:{' '}
      <span className="num">
        {duration(change.before_ms)} → {duration(change.after_ms)}
      </span>
    </span>
  );
}

function Jobs({ jobs }: { jobs: Job[] }) {
  const [open, setOpen] = useState<string>();
  return (
    <table className="sheet figures-of-jobs">
      <thead>
        <tr>
          <th>job</th>
          <th className="right">passed</th>
          <th className="right">failed</th>
          <th className="right">half take</th>
          <th className="right">most take</th>
          <th className="right">half queue</th>
          <th className="right">most queue</th>
          <th className="right">runners' time</th>
          <th>over time</th>
          <th>changed</th>
        </tr>
      </thead>
      <tbody>
        {jobs.map((job) => {
          const name = jobName(job);
          const own = open === name;
          return [
            <tr key={name} className={own ? 'joined' : undefined}>
              <td>
                <button
                  type="button"
                  className="plain"
                  aria-expanded={own}
                  onClick={() => setOpen(own ? undefined : name)}
                >
                  {name}
                </button>
              </td>
              <td className="num right">{job.passed}</td>
              <td className="num right">
                {job.failed > 0 ? (
                  <span className="s-failed">
                    <Shape state="failed" /> {job.failed}
                  </span>
                ) : (
                  '0'
                )}
              </td>
              <td className="num right">{length(job.took.p50_ms)}</td>
              <td className="num right">{length(job.took.p90_ms)}</td>
              <td className="num right">{length(job.waited.p50_ms)}</td>
              <td className="num right">{length(job.waited.p90_ms)}</td>
              <td className="num right">{duration(job.runner_ms)}</td>
              <td>
                <Strip job={job} />
              </td>
              <td>{job.change && <Change change={job.change} />}</td>
            </tr>,
            own && (
              <tr key={`${name} open`}>
                <td colSpan={10}>
                  <One job={job} />
                </td>
              </tr>
            ),
          ];
        })}
      </tbody>
    </table>
  );
}

/** How long it took over time: a bar for each part in which it passed. */
function Strip({ job }: { job: Job }) {
  const most = Math.max(1, ...job.parts.map((part) => part.took.p50_ms ?? 0));
  const width = Math.max(2, Math.min(8, Math.floor(192 / Math.max(1, job.parts.length))));
  const words = `half took ${length(job.took.p50_ms)}; longest in a part ${duration(most)}`;
  return (
    <svg className="fullness" width={job.parts.length * width} height="20" role="img" aria-label={words}>
      <title>{words}</title>
      <line x1="0" x2={job.parts.length * width} y1="19.5" y2="19.5" />
      {job.parts.map((part, at) => {
        const height = part.took.p50_ms == null ? 0 : Math.max(1.5, (18 * part.took.p50_ms) / most);
        return <rect key={part.since} x={at * width} width={width - 1} y={19 - height} height={height} />;
      })}
    </svg>
  );
}

function One({ job }: { job: Job }) {
  return (
    <div className="one-job">
      <Suspense fallback={<div className="plot" />}>
        <History job={job} />
      </Suspense>
      <table className="sheet">
        <thead>
          <tr>
            <th>step</th>
            <th className="right">done</th>
            <th className="right">half take</th>
            <th className="right">most take</th>
          </tr>
        </thead>
        <tbody>
          {job.steps.map((step) => (
            <tr key={step.name}>
              <td className="code cut">{step.name}</td>
              <td className="num right">{step.count}</td>
              <td className="num right">{length(step.took.p50_ms)}</td>
              <td className="num right">{length(step.took.p90_ms)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Branches({ branches }: { branches: Schemas['BranchInsight'][] }) {
  return (
    <table className="sheet">
      <thead>
        <tr>
          <th>branch</th>
          <th className="right">passed</th>
          <th className="right">failed</th>
          <th className="right">other</th>
          <th className="right">half took</th>
          <th className="right">most took</th>
          <th />
        </tr>
      </thead>
      <tbody>
        {branches.map((one) => (
          <tr key={one.branch ?? ''}>
            <td>{one.branch ?? <span className="soft">all others</span>}</td>
            <td className="num right">{one.passed}</td>
            <td className="num right">{one.failed}</td>
            <td className="num right">{one.other}</td>
            <td className="num right">{length(one.took.p50_ms)}</td>
            <td className="num right">{length(one.took.p90_ms)}</td>
            <td>
              <Share one={one} />
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** How much of what ended passed, failed and neither. */
function Share({ one }: { one: Schemas['BranchInsight'] }) {
  const all = one.passed + one.failed + one.other;
  const wide = 160;
  const part = (count: number) => (wide * count) / Math.max(1, all);
  const words = `${Math.round((100 * one.passed) / Math.max(1, all))} % passed`;
  return (
    <svg className="share" width={wide} height="10" role="img" aria-label={words}>
      <title>{words}</title>
      <rect className="passed" width={part(one.passed)} height="10" />
      <rect className="failed" x={part(one.passed)} width={part(one.failed)} height="10" />
      <rect className="other" x={part(one.passed + one.failed)} width={part(one.other)} height="10" />
    </svg>
  );
}
