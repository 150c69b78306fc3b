// The chosen job: why it failed, its log live, its steps, what it gave and took, and why it is as it is.
import { useState } from 'react';
import { Link, useLocation } from 'react-router';
import type { JobView, PlanView, RunView, Schemas } from '../../api/client';
import { StateWord } from '../../look/states';
import { date, exact } from '../../parts/times';
import { duration, time } from '../../parts/words';
import { JobActs } from './Acts';
import { Failure } from './Failure';
import { Given } from './Given';
import { Log } from './log/Log';
import { Steps } from './Steps';
import { Taken } from './Taken';
import { Why } from './Why';
import './job.css';
import { useSearch } from '../../parts/useSearch';

type Attempt = Schemas['AttemptView'];
type Tab = 'failure' | 'log' | 'steps' | 'given' | 'taken' | 'why';

const words: Record<Tab, string> = {
  failure: 'Failure',
  log: 'Log',
  steps: 'Steps',
  given: 'Given',
  taken: 'Taken',
  why: 'Why',
};

const isBad = (state: string) => state === 'failed' || state === 'lost';

/** Whether the log of an attempt was past its age. */
function dropped(run: RunView, attempt: Attempt): boolean {
  return run.logs_dropped_at != null && attempt.ended_at != null && time(attempt.ended_at) <= time(run.logs_dropped_at);
}

/** The tab that the address names; else why it failed, where it did and no line of the log is named; else the log. */
function useTab(bad: boolean): [Tab, (tab: Tab) => void, Tab[]] {
  const [search, put] = useSearch();
  const { hash } = useLocation();
  const all = (Object.keys(words) as Tab[]).filter((tab) => bad || tab !== 'failure');
  const named = all.find((tab) => tab === search.get('tab'));
  // Who watches a log as the job fails goes on reading it.
  const [first] = useState(bad);
  const toLog = !first || hash.startsWith('#L') || search.has('find');
  const choose = (tab: Tab) => put('tab', tab);
  return [named ?? (toLog ? 'log' : 'failure'), choose, all];
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
  const [number, setNumber] = useState<number>();
  const [beside, setBeside] = useState<string>();
  const attempt = job.attempts.find((one) => one.number === number) ?? job.attempts.at(-1);
  const [tab, setTab, tabs] = useTab(attempt !== undefined && isBad(attempt.state));
  const helpers = attempt?.phases.filter((phase) => phase.kind === 'beside').map((phase) => phase.name) ?? [];
  return (
    <>
      <Head run={run} job={job} attempt={attempt} now={now} />
      <div className="bar tabs">
        <div className="words" role="tablist" aria-label="About this job">
          {tabs.map((one) => (
            <button type="button" role="tab" key={one} aria-selected={tab === one} onClick={() => setTab(one)}>
              {words[one]}
            </button>
          ))}
        </div>
        <span className="grow" />
        {job.attempts.length > 1 && (
          <div className="words" role="tablist" aria-label="Attempts">
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
        {helpers.length > 0 && tab === 'log' && (
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
      {tab === 'failure' && attempt && <Failure run={run} job={job} attempt={attempt.number} />}
      {tab === 'log' && <LogOrWhyNot run={run} job={job} attempt={attempt} beside={beside} />}
      {tab === 'steps' && <Steps attempt={attempt} now={now} />}
      {tab === 'given' && <Given run={run} job={job} />}
      {tab === 'taken' && <Taken job={job} plan={plan} />}
      {tab === 'why' && <Why job={job} plan={plan} />}
    </>
  );
}

function Head({ run, job, attempt, now }: { run: RunView; job: JobView; attempt: Attempt | undefined; now: number }) {
  const went = attempt && (attempt.ended_at ? time(attempt.ended_at) : now) - time(attempt.started_at);
  return (
    <div className="panel-head">
      <div className="panel-line">
        <h2>{job.id}</h2>
        <StateWord state={job.state} />
        <span className="soft num end">
          {attempt && `${duration(went ?? 0)} on ${attempt.runner}`}
          {attempt && job.usual_ms != null && `, usually ${duration(job.usual_ms)}`}
        </span>
        <JobActs run={run} job={job} />
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
    </div>
  );
}

function LogOrWhyNot({
  run,
  job,
  attempt,
  beside,
}: {
  run: RunView;
  job: JobView;
  attempt: Attempt | undefined;
  beside: string | undefined;
}) {
  if (attempt && dropped(run, attempt)) {
    const at = run.logs_dropped_at ?? '';
    return (
      <p className="panel-body soft" title={exact(at)}>
        Its log was dropped on {date(at, Date.now())}: it was past the age that logs are kept for.
      </p>
    );
  }
  if (attempt) return <Log key={`${attempt.number} ${beside}`} run={run} job={job} attempt={attempt} beside={beside} />;
  return (
    <p className="panel-body soft">
      {job.state === 'skipped' ? 'It did not run: there is no log.' : 'The log begins when a runner has taken the job.'}
    </p>
  );
}
