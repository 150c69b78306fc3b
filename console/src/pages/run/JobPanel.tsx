// A job beside the lanes: its steps with times, its log live, what it gave and took, and why it is as it is.
import { useQuery } from '@tanstack/react-query';
import { Button } from 'antd';
import { useState } from 'react';
import { Link } from 'react-router';
import { answered, api, type JobView, type PlanView, queries, type RunView, type Schemas } from '../../api/client';
import { isEnd, Shape, StateWord } from '../../look/states';
import { bytes, duration, time } from '../../parts/words';
import { Log } from './Log';
import { phaseState } from './phase';
import './job.css';

const tabs = ['Log', 'Given', 'Taken', 'Why'] as const;

/** Whether the log of an attempt was past its age. */
function dropped(run: RunView, attempt: Schemas['AttemptView']): boolean {
  return run.logs_dropped_at != null && attempt.ended_at != null && time(attempt.ended_at) <= time(run.logs_dropped_at);
}

export function JobPanel({
  run,
  job,
  plan,
  now,
}: {
  run: RunView;
  job: JobView;
  plan: PlanView | undefined;
  now: number;
}) {
  const [tab, setTab] = useState<(typeof tabs)[number]>('Log');
  const [number, setNumber] = useState<number>();
  const [beside, setBeside] = useState<string>();
  const attempt = job.attempts.find((one) => one.number === number) ?? job.attempts.at(-1);
  const helpers = attempt?.phases.filter((phase) => phase.kind === 'beside').map((phase) => phase.name) ?? [];
  return (
    <>
      <div className="panel-head">
        <div style={{ display: 'flex', gap: 10, alignItems: 'baseline' }}>
          <h2>{job.id}</h2>
          <StateWord state={job.state} />
          <span className="soft num" style={{ marginLeft: 'auto' }}>
            {attempt &&
              `${duration((attempt.ended_at ? time(attempt.ended_at) : now) - time(attempt.started_at))} on ${attempt.runner}${job.usual_ms == null ? '' : `, usually ${duration(job.usual_ms)}`}`}
          </span>
          <JobActions run={run} job={job} />
        </div>
        {job.reused_from ? (
          <div className="soft">
            the same as in <Link to={`/runs/${job.reused_from}/${job.id}`}>{job.reused_from}</Link>: nothing that can
            change its result has changed
          </div>
        ) : (
          job.why && <div className="soft">{job.why}</div>
        )}
        {job.not_reused && <div className="soft">not reused: {job.not_reused}</div>}
        {job.deploys && (
          <div className="soft next">
            into <Link to={`/projects/${run.project}/environments/${job.deploys}`}>{job.deploys}</Link>
          </div>
        )}
        {job.started_by && (
          <div className="soft">
            {job.by_hand ? 'started by hand by' : 'asked for again by'} {job.started_by}
            {Object.entries(job.inputs ?? {}).map(([name, value]) => ` · ${name} ${value}`)}
          </div>
        )}
        {job.attempts.length > 1 && (
          <div className="words">
            {job.attempts.map((one) => (
              <button
                type="button"
                role="tab"
                key={one.number}
                aria-selected={one === attempt}
                onClick={() => setNumber(one.number)}
              >
                attempt {one.number}
              </button>
            ))}
          </div>
        )}
        {helpers.length > 0 && tab === 'Log' && (
          <div className="words" role="tablist" aria-label="Whose log">
            {[undefined, ...helpers].map((one) => (
              <button
                type="button"
                role="tab"
                key={one ?? ''}
                aria-selected={one === beside}
                onClick={() => setBeside(one)}
              >
                {one ? `helper ${one}` : 'steps'}
              </button>
            ))}
          </div>
        )}
      </div>
      {attempt && attempt.phases.length > 0 && (
        <div
          className="panel-body"
          style={{ borderBottom: '1px solid var(--rule)', maxHeight: 168, overflow: 'auto', flex: 'none' }}
        >
          <table className="steps">
            <tbody>
              {attempt.phases.map((phase) => (
                <tr key={`${phase.kind}${phase.name}${phase.started_at}`}>
                  <td style={{ width: 14 }}>
                    <Shape state={phaseState(phase)} label />
                  </td>
                  <td className="soft" style={{ width: 64 }}>
                    {phase.kind}
                  </td>
                  <td className={phase.kind === 'step' ? 'code' : ''}>{phase.name}</td>
                  <td className="took num">{duration(phase.duration_ms ?? now - time(phase.started_at))}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      <div className="bar" style={{ minHeight: 34, padding: '2px 12px' }}>
        <div className="words" role="tablist" aria-label="About this job">
          {tabs.map((one) => (
            <button type="button" role="tab" key={one} aria-selected={tab === one} onClick={() => setTab(one)}>
              {one}
            </button>
          ))}
        </div>
      </div>
      {tab === 'Log' &&
        (attempt && dropped(run, attempt) ? (
          <p className="panel-body soft">
            Its log was dropped on {run.logs_dropped_at?.slice(0, 10)}: it was past the age that logs are kept for.
          </p>
        ) : attempt ? (
          <Log key={`${attempt.number} ${beside}`} run={run} job={job} attempt={attempt} beside={beside} />
        ) : (
          <p className="panel-body soft">
            {job.state === 'skipped'
              ? 'It did not run: there is no log.'
              : 'The log begins when a runner has taken the job.'}
          </p>
        ))}
      {tab === 'Given' && <Given run={run} job={job} />}
      {tab === 'Taken' && <Taken job={job} plan={plan} />}
      {tab === 'Why' && <Why job={job} plan={plan} />}
    </>
  );
}

/** What can be asked of a job: to start it, to do it again. */
function JobActions({ run, job }: { run: RunView; job: JobView }) {
  const [told, setTold] = useState<string>();
  const params = { path: { project: run.project, number: run.number } };
  const ask = async (call: Promise<{ error?: unknown; response: Response }>) => {
    const { error, response } = await call;
    const detail = (error as { detail?: string } | undefined)?.detail;
    setTold(response.ok ? undefined : (detail ?? `the service answered ${response.status}`));
    queries.invalidateQueries({ queryKey: ['run', run.run] });
  };
  const start = () => ask(api.POST('/api/v1/runs/{project}/{number}/start', { params, body: { job: job.id } }));
  const again = () => ask(api.POST('/api/v1/runs/{project}/{number}/again', { params, body: { jobs: [job.id] } }));
  return (
    <>
      {job.state === 'gated' && job.by_hand && !job.started_by && (
        <Button size="small" type="primary" onClick={start}>
          Start
        </Button>
      )}
      {isEnd(job.state) && (
        <Button size="small" onClick={again} title="This job, and what follows it, once more">
          Again
        </Button>
      )}
      {told && <span className="s-failed">{told}</span>}
    </>
  );
}

function Given({ run, job }: { run: RunView; job: JobView }) {
  const params = { path: { project: run.project, number: run.number } };
  const { data } = useQuery({
    queryKey: ['run', run.run, 'artifacts'],
    queryFn: () => answered(api.GET('/api/v1/runs/{project}/{number}/artifacts', { params })),
  });
  const own = data?.filter((artifact) => artifact.job === job.id) ?? [];
  const facts = Object.entries(job.facts ?? {});
  const numbers = Object.entries(job.numbers ?? {}).filter(([name]) => !name.startsWith('fact.'));
  if (own.length + facts.length + numbers.length === 0)
    return (
      <p className="panel-body soft">
        {isEnd(job.state) ? 'This job has given nothing.' : 'What this job gives is listed here when it has passed.'}
      </p>
    );
  return (
    <div className="panel-body">
      <table className="sheet">
        <tbody>
          {own.map((artifact) => (
            <tr key={artifact.name}>
              <td>
                <a href={artifact.url} download>
                  {artifact.name}
                </a>
              </td>
              <td className="num">
                {artifact.files} {artifact.files === 1 ? 'file' : 'files'}
              </td>
              <td className="num">{bytes(artifact.bytes)}</td>
              <td className="code soft">{artifact.digest.slice(0, 19)}…</td>
            </tr>
          ))}
        </tbody>
      </table>
      <Pairs title="Facts" pairs={facts} />
      <Pairs title="Numbers" pairs={numbers.map(([name, value]) => [name, String(Number(value.toFixed(2)))])} />
    </div>
  );
}

function Pairs({ title, pairs }: { title: string; pairs: [string, string][] }) {
  if (pairs.length === 0) return null;
  return (
    <>
      <h3>{title}</h3>
      <table className="sheet">
        <tbody>
          {pairs.map(([name, value]) => (
            <tr key={name}>
              <td>{name}</td>
              <td className="code">{value}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

/** What was restored and saved, how much of it, and how long that took. */
function Caches({ job }: { job: JobView }) {
  const caches = job.attempts.at(-1)?.caches ?? [];
  if (caches.length === 0) return null;
  return (
    <>
      <h3>Caches</h3>
      <ul style={{ listStyle: 'none', margin: 0, padding: 0 }}>
        {caches.map((cache) => (
          <li key={cache.key} style={{ padding: '2px 0' }}>
            <span className="code">{cache.key}</span>
            {cache.restored && (
              <div className="soft num">
                restored from <Link to={`/runs/${cache.from}`}>{cache.from}</Link>
                {cache.restored !== cache.key && `, nearest is ${cache.restored}`}: {cache.files} files,{' '}
                {bytes(cache.bytes)} in {duration(cache.restore_ms)}, {bytes(cache.fetched_bytes)} fetched
              </div>
            )}
            {cache.saved && (
              <div className="soft num">
                saved {cache.saved_files} files, {bytes(cache.saved_bytes)} in {duration(cache.save_ms)},{' '}
                {bytes(cache.sent_bytes)} of it new to the store
              </div>
            )}
            {cache.notices.map((notice) => (
              <div key={notice} className="soft">
                {notice}
              </div>
            ))}
          </li>
        ))}
      </ul>
    </>
  );
}

function Taken({ job, plan }: { job: JobView; plan: PlanView | undefined }) {
  const takes = plan?.jobs.find((planned) => planned.id === job.id)?.takes ?? [];
  return (
    <div className="panel-body">
      {takes.length === 0 && <p className="soft">This job takes nothing from others.</p>}
      <ul className="code" style={{ listStyle: 'none', margin: 0, padding: 0 }}>
        {takes.map((take) => (
          <li key={take}>{take}</li>
        ))}
      </ul>
      <Caches job={job} />
    </div>
  );
}

const reasons: Record<string, string> = {
  takes: 'takes what it gives',
  after: 'the file says it comes after it',
  order: 'the order puts its stage earlier',
  at_once: 'only so many cells run at once',
  rollout: 'the roll-out reaches it after that one is well',
};

function Why({ job, plan }: { job: JobView; plan: PlanView | undefined }) {
  const waits = plan?.jobs.find((planned) => planned.id === job.id)?.waits_for ?? [];
  return (
    <div className="panel-body">
      <p>{job.why ?? 'Everything it waited for ended well, and so did it.'}</p>
      {waits.length === 0 ? (
        <p className="soft">It waits for no other job.</p>
      ) : (
        <table className="steps">
          <tbody>
            {waits.map((wait) => (
              <tr key={wait.job}>
                <td>waits for {wait.job}</td>
                <td className="soft">
                  {reasons[wait.because]}
                  {wait.implied && ' (others imply it)'}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </div>
  );
}
