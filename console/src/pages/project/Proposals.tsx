// What is offered to a project: who offers it, who approved its newest commit, how its runs went; and one proposal with
// every run of it.

import { useQuery } from '@tanstack/react-query';
import { Segmented } from 'antd';
import { useState } from 'react';
import { Link, useParams } from 'react-router';
import { answered, api, type Schemas } from '../../api/client';
import { StateWord } from '../../look/states';
import { useNow } from '../../parts/now';
import { ProjectWords } from '../../parts/ProjectWords';
import { Sheet } from '../../parts/Sheet';
import { Trouble } from '../../parts/Trouble';
import { When } from '../../parts/When';
import { duration, many, took } from '../../parts/words';
import { ProposalActs } from './landing-acts';

type Proposal = Schemas['ProposalView'];

/** Whether it is still offered, in words. */
function standing(one: Proposal): string {
  if (one.state === 'open' && one.draft) return 'draft';
  return one.state;
}

function Approvals({ proposal }: { proposal: Proposal }) {
  return proposal.reviews.map((review) => (
    <div key={review.by} className={review.current ? undefined : 'soft'}>
      {review.by} {review.approves ? 'approves' : 'refuses'}
      {!review.current && ' an earlier commit'}
    </div>
  ));
}

function Verdicts({ proposal }: { proposal: Proposal }) {
  if (proposal.verdicts.length === 0) return <span className="soft">no run of its newest commit</span>;
  return proposal.verdicts.map((verdict) => (
    <div key={verdict.pipeline}>
      <Link to={`/runs/${verdict.run}`} title={verdict.sentence}>
        <StateWord state={verdict.state} />
      </Link>{' '}
      <span className="soft">{verdict.pipeline}</span>
    </div>
  ));
}

export default function Proposals() {
  const { project = '' } = useParams();
  const [which, setWhich] = useState('open');
  const { data, error } = useQuery({
    queryKey: ['proposals', project, which],
    queryFn: () =>
      answered(
        api.GET('/api/v1/projects/{project}/proposals', {
          params: { path: { project }, query: { all: which === 'all' } },
        }),
      ),
    refetchInterval: 5_000,
  });
  return (
    <>
      <ProjectWords project={project} at="proposals" />
      <div className="bar title">
        <span className="grow" />
        <Segmented aria-label="Which proposals" value={which} onChange={setWhich} options={['open', 'all']} />
      </div>
      {error && <Trouble error={error} />}
      {data && data.length === 0 && (
        <p className="empty">
          Nothing is offered{which === 'open' && ' now'}. Proposals come from the project's forge; which one that is,{' '}
          <code>ordotaxis project show {project}</code> says.
        </p>
      )}
      {data && data.length > 0 && (
        <Sheet heads={['proposal', 'state', 'title', 'for', 'by', 'approved', 'verdict', 'landing', 'changed']}>
          {data.map((one) => (
            <tr key={one.number}>
              <td className="num">
                <Link to={`/projects/${project}/proposals/${one.number}`}>{one.number}</Link>
              </td>
              <td>{standing(one)}</td>
              <td>
                {one.title} {one.outside && <span className="soft">from outside</span>}
              </td>
              <td>{one.target}</td>
              <td>{one.author}</td>
              <td>
                <Approvals proposal={one} />
              </td>
              <td>
                <Verdicts proposal={one} />
                {one.new_failures > 0 && <div className="s-failed">{many(one.new_failures, 'new failure')}</div>}
              </td>
              <td className="soft">
                {one.landing.map((line) => (
                  <div key={line}>{line}</div>
                ))}
              </td>
              <td className="num">
                <When at={one.changed_at} />
              </td>
            </tr>
          ))}
        </Sheet>
      )}
    </>
  );
}

/** Some sentences under a heading; nothing where there are none. */
function Part({ title, lines }: { title: string; lines: string[] }) {
  if (lines.length === 0) return null;
  return (
    <>
      <h3>{title}</h3>
      <ul className="plain">
        {lines.map((line) => (
          <li key={line}>{line}</li>
        ))}
      </ul>
    </>
  );
}

function failure(one: Schemas['FailureView']): string {
  const message = one.message?.split('\n')[0];
  return [one.job, one.test, message && `– ${message}`, one.place && `at ${one.place}`].filter(Boolean).join(' ');
}

export function OneProposal() {
  const { project = '', proposal = '' } = useParams();
  const now = useNow(true);
  const { data, error } = useQuery({
    queryKey: ['proposal', project, proposal],
    queryFn: () =>
      answered(api.GET('/api/v1/projects/{project}/proposals/{proposal}', { params: { path: { project, proposal } } })),
    refetchInterval: 5_000,
  });
  return (
    <>
      <ProjectWords project={project} at="proposals" />
      {error && <Trouble error={error} />}
      {data && (
        <>
          <h2>
            {data.number}: {data.title}
          </h2>
          <p className="soft">
            {standing(data)}, offered by {data.author ?? 'someone'}
            {data.outside && ' from outside'}
            {data.source && ` from ${data.source}`} for {data.target}, <code>{data.commit.slice(0, 10)}</code>,{' '}
            <span>
              changed <When at={data.changed_at} sentence />
            </span>
            {data.landed_as && (
              <>
                ; landed as <code>{data.landed_as.slice(0, 10)}</code>
              </>
            )}
            {data.link && (
              <>
                {' '}
                <a href={data.link} rel="noreferrer">
                  at the forge
                </a>
              </>
            )}
          </p>
          <div className="before">
            <Approvals proposal={data} />
          </div>
          {data.state === 'open' && <ProposalActs project={project} one={data} />}
          <Part title="Landing" lines={data.landing} />
          <Part title="New failures" lines={data.failures.map(failure)} />
          <Part title="What it changes in the plan" lines={data.plan} />
          {data.numbers.length > 0 && (
            <>
              <h3>Numbers</h3>
              <table className="sheet">
                <tbody>
                  {data.numbers.map((one) => (
                    <tr key={one.name}>
                      <td>{one.name}</td>
                      <td className="num">{one.now}</td>
                      <td className="soft num">{one.before && one.before !== one.now && `was ${one.before}`}</td>
                      <td className="soft">{one.wants && `wanted ${one.wants}`}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </>
          )}
          <h3>Runs</h3>
          {data.runs.length === 0 ? (
            <p className="empty">
              It has no runs: no pipeline has <code>proposal</code> among its <code>[starts]</code> for this branch.
            </p>
          ) : (
            <Sheet heads={['run', 'state', 'pipeline', 'commit', 'time', 'begun', 'what happened']}>
              {data.runs.map((run) => (
                <tr key={run.run}>
                  <td className="num">
                    <Link to={`/runs/${run.run}`}>{run.number}</Link>
                  </td>
                  <td>
                    <StateWord state={run.state} />
                  </td>
                  <td>{run.pipeline}</td>
                  <td>
                    <span className="code">{run.commit.slice(0, 8)}</span> {run.commit_title}
                  </td>
                  <td className="num">{run.started_at && duration(took(run, now) ?? 0)}</td>
                  <td className="num">
                    <When at={run.created_at} />
                  </td>
                  <td className="soft">{run.sentence}</td>
                </tr>
              ))}
            </Sheet>
          )}
        </>
      )}
    </>
  );
}
