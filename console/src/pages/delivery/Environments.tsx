// A project's environments: what is in each, how far behind main that is, and what waits to come in and why.

import { useQuery } from '@tanstack/react-query';
import { Link, useParams } from 'react-router';
import { answered, api, type Schemas } from '../../api/client';
import { ProjectWords } from '../../parts/ProjectWords';
import { Sheet } from '../../parts/Sheet';
import { Trouble } from '../../parts/Trouble';
import { exact } from '../../parts/times';
import { When } from '../../parts/When';
import { age, many } from '../../parts/words';
import Insight from './Insight';
import { Say } from './Say';

export type Environment = Schemas['EnvironmentView'];

export default function Environments() {
  const { project = '' } = useParams();
  const { data, error } = useQuery({
    queryKey: ['environments', project],
    queryFn: () => answered(api.GET('/api/v1/projects/{project}/environments', { params: { path: { project } } })),
    refetchInterval: 2_000,
  });
  const trouble = data?.find((one) => one.trouble)?.trouble;
  return (
    <>
      <ProjectWords project={project} at="environments" />
      {error && <Trouble error={error} />}
      {trouble && <Trouble error={new Error(trouble)} />}
      {data?.length === 0 && (
        <p className="empty">
          Nothing was put anywhere yet. A job does that with <code>deploys = "trial"</code>; what may come in, and with
          whose word, is said by <code>[environment.trial]</code> in <code>ordotaxis/rules.toml</code>.
        </p>
      )}
      {data && data.length > 0 && (
        <Sheet heads={['environment', 'there', 'since', 'from', 'behind main', 'next']}>
          {data.map((one) => (
            <Row key={one.name} one={one} />
          ))}
        </Sheet>
      )}
      <Insight project={project} />
    </>
  );
}

function Row({ one }: { one: Environment }) {
  const there = one.present;
  return (
    <tr>
      <td>
        <Link to={`/projects/${one.project}/environments/${one.name}`}>
          <b>{one.name}</b>
        </Link>
        {one.url && (
          <div className="soft">
            <a href={one.url}>{one.url}</a>
          </div>
        )}
      </td>
      <td>
        {one.unclosed && <div className="s-failed">it could not be closed: {one.unclosed}</div>}
        {one.doubt && <div className="s-failed">unknown: {one.doubt.why}</div>}
        {there ? (
          <>
            <span className="code">{there.commit.slice(0, 8)}</span> {there.reference.replace('tag:', 'tag ')}
            {there.by && <span className="soft"> by {there.by}</span>}
          </>
        ) : (
          <span className="soft">nothing yet</span>
        )}
      </td>
      <td className="num">{there?.ended_at && <When at={there.ended_at} />}</td>
      <td>{there && <Link to={`/runs/${there.run}/${there.job}`}>{there.run}</Link>}</td>
      <td>{one.behind && behind(one.behind)}</td>
      <td>
        <Next one={one} />
      </td>
    </tr>
  );
}

export function behind(far: Schemas['Behind']): string {
  if (far.commits === 0) return 'nothing';
  return `${far.more ? 'more than ' : ''}${many(far.commits, 'commit')}, ${age(far.ms)}`;
}

/** Nothing goes on there, waits, or keeps anything out. */
export function isQuiet(one: Environment): boolean {
  return !one.frozen && !one.inside && one.waiting.length === 0 && one.unconfirmed.length === 0;
}

/** What goes on there, what waits and why, and what someone has to say. */
export function Next({ one }: { one: Environment }) {
  if (isQuiet(one)) return <span className="soft">–</span>;
  return (
    <div className="next">
      {one.frozen && (
        <div className="s-gated">
          frozen {one.frozen.until && `until ${exact(one.frozen.until)} `}by {one.frozen.by}: {one.frozen.reason}
        </div>
      )}
      {one.inside && (
        <div className="s-running">
          <Link to={`/runs/${one.inside.run}/${one.inside.job}`}>{one.inside.run}</Link> is being put there
        </div>
      )}
      {one.waiting.map((waits) => (
        <div key={`${waits.run} ${waits.job}`}>
          <Link to={`/runs/${waits.run}/${waits.job}`}>{waits.run}</Link>{' '}
          <span className="soft">
            <span className="code">{waits.commit.slice(0, 8)}</span> {waits.why}
          </span>
          {waits.words.map((word) => (
            <div key={word.by} className="soft">
              {word.by} {word.agrees ? 'approves' : 'refuses'}
              {word.reason && `: ${word.reason}`}
            </div>
          ))}
          {waits.asks_you && <Say run={waits.run} job={waits.job} into={one.name} />}
        </div>
      ))}
      {one.unconfirmed.map((past) => (
        <div key={`${past.run} ${past.job}`} className="s-gated">
          {past.by} put <Link to={`/runs/${past.run}/${past.job}`}>{past.run}</Link> there past the rules: {past.reason}
          {past.asks_you && <Say run={past.run} job={past.job} into={one.name} confirms />}
        </div>
      ))}
    </div>
  );
}
