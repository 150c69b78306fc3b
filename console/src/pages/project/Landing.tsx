// The landing queue: who stands where, what is tested together, what each waits for, and what landed or left last.
import { useQuery } from '@tanstack/react-query';
import { Link, useParams } from 'react-router';
import { answered, api, type Schemas } from '../../api/client';
import { StateWord } from '../../look/states';
import { useNow } from '../../parts/now';
import { ProjectWords } from '../../parts/ProjectWords';
import { Trouble } from '../../parts/Trouble';
import { exact } from '../../parts/times';
import { When } from '../../parts/When';
import { duration, time } from '../../parts/words';
import { QueueActs } from './landing-acts';

type Branch = Schemas['LandingBranch'];
type Entry = Schemas['LandingEntry'];

export default function Landing() {
  const { project = '' } = useParams();
  const now = useNow(true);
  const { data, error } = useQuery({
    queryKey: ['landing', project],
    queryFn: () => answered(api.GET('/api/v1/projects/{project}/landing', { params: { path: { project } } })),
    refetchInterval: 2_000,
  });
  const waiting = data?.branches.filter((branch) => branch.entries.length > 0) ?? [];
  return (
    <>
      <ProjectWords project={project} at="landing" />
      {error && <Trouble error={error} />}
      {data?.trouble && <Trouble error={new Error(data.trouble)} />}
      {data && waiting.length === 0 && (
        <p className="empty">
          Nothing waits to land. <code>ordotaxis land {project}/NUMBER</code> asks for a proposal to land, where{' '}
          <code>ordotaxis/rules.toml</code> gives its branch a queue.
        </p>
      )}
      {waiting.map((branch) => (
        <Queue key={branch.branch} project={project} branch={branch} now={now} />
      ))}
      {data && data.ended.length > 0 && (
        <>
          <h2 className="apart">Landed or left</h2>
          <table className="sheet">
            <tbody>
              {data.ended.map((end) => (
                <tr key={`${end.proposal} ${end.at}`}>
                  <td className="num">
                    <When at={end.at} />
                  </td>
                  <td>
                    <Link to={`/projects/${project}/proposals/${end.proposal}`}>{end.proposal}</Link>
                  </td>
                  <td>{end.commit ? 'landed' : 'left'}</td>
                  <td>{end.branch}</td>
                  <td className="soft">{end.commit ? <code>{end.commit.slice(0, 10)}</code> : end.why}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </>
      )}
    </>
  );
}

function Queue({ project, branch, now }: { project: string; branch: Branch; now: number }) {
  return (
    <>
      <h2>
        {branch.branch} <code>{branch.head.slice(0, 10)}</code>
      </h2>
      {branch.shut && <p className="soft">{branch.shut}</p>}
      <table className="sheet">
        <thead>
          <tr>
            <th>place</th>
            <th>proposal</th>
            <th>title</th>
            <th>asked by</th>
            <th>asked</th>
            <th>it</th>
            <th>likely</th>
            <th>runs</th>
            <th>
              <span className="hidden">steps</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {branch.entries.map((entry) => (
            <Row key={entry.proposal} project={project} entry={entry} now={now} />
          ))}
        </tbody>
      </table>
    </>
  );
}

function Row({ project, entry, now }: { project: string; entry: Entry; now: number }) {
  return (
    <tr>
      <td className="num">{entry.place}</td>
      <td>
        <Link to={`/projects/${project}/proposals/${entry.proposal}`}>{entry.proposal}</Link>
      </td>
      <td>{entry.title}</td>
      <td>{entry.by}</td>
      <td className="num">
        <When at={entry.asked_at} />
      </td>
      <td>
        {entry.sentence}
        {entry.together.length > 0 && <div className="soft">together with {entry.together.join(', ')}</div>}
        {entry.commit && (
          <div className="soft">
            <code>{entry.commit.slice(0, 10)}</code>
          </div>
        )}
      </td>
      <td className="num" title={entry.expected_at ? exact(entry.expected_at) : undefined}>
        {entry.expected_at && `in ${duration(Math.max(time(entry.expected_at) - now, 0))}`}
      </td>
      <td>
        {entry.runs.map((run) => (
          <div key={run.run}>
            <Link to={`/runs/${run.run}`} title={run.sentence}>
              <StateWord state={run.state} />
            </Link>{' '}
            <span className="soft">{run.pipeline}</span>
          </div>
        ))}
      </td>
      <td>
        <QueueActs project={project} entry={entry} />
      </td>
    </tr>
  );
}
