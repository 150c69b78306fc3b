// One environment: what is there, what waits, all that was ever put there; and the way back.
import { useInfiniteQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useParams } from 'react-router';
import { answered, api, type Schemas } from '../../api/client';
import { ProjectWords } from '../../parts/ProjectWords';
import { Trouble } from '../../parts/Trouble';
import { exact } from '../../parts/times';
import { When } from '../../parts/When';
import { EnvironmentActs, GoBack } from './acts';
import { Between } from './Between';
import { behind, type Environment, isQuiet, Next } from './Environments';

type Deployment = Schemas['DeploymentView'];

export default function OneEnvironment() {
  const { project = '', environment = '' } = useParams();
  const path = { project, environment };
  const key = ['environment', project, environment];
  const { data, error, hasNextPage, fetchNextPage } = useInfiniteQuery({
    queryKey: key,
    queryFn: ({ pageParam }) =>
      answered(
        api.GET('/api/v1/projects/{project}/environments/{environment}', {
          params: { path, query: { before: pageParam } },
        }),
      ),
    initialPageParam: undefined as number | undefined,
    getNextPageParam: (last) => (last.more ? last.deployments.at(-1)?.number : undefined),
    refetchInterval: 2_000,
  });
  const one = data?.pages[0]?.environment;
  return (
    <>
      <ProjectWords project={project} at="environments" />
      {error && <Trouble error={error} />}
      {one && (
        <>
          <h2>{one.name}</h2>
          <p>
            <There one={one} />
            {one.behind && <span className="soft"> · behind main: {behind(one.behind)}</span>}
            {one.url && (
              <>
                {' · '}
                <a href={one.url}>{one.url}</a>
              </>
            )}
            {one.present && (
              <>
                {' · '}
                <Link to={`/trace?thing=${one.project}/${one.name}`}>where it comes from</Link>
              </>
            )}
          </p>
          {one.closed_at && <p>It was a preview, and was closed {exact(one.closed_at)}.</p>}
          {one.unclosed && <p className="s-failed">It could not be closed: {one.unclosed}</p>}
          {!isQuiet(one) && <Next one={one} />}
          <EnvironmentActs one={one} />
          <h2 className="apart">All that was put there</h2>
          <History project={project} pages={data?.pages.flatMap((page) => page.deployments) ?? []} one={one} />
          {hasNextPage && (
            <button type="button" className="act later" onClick={() => fetchNextPage()}>
              Earlier ones
            </button>
          )}
        </>
      )}
    </>
  );
}

/** What is there, since when, and from where; where nobody knows, the service's own words. */
function There({ one }: { one: Environment }) {
  const there = one.present;
  if (!there?.ended_at || one.doubt || one.unclosed) return one.sentence;
  return (
    <>
      <span className="code">{there.commit.slice(0, 8)}</span> of {there.reference.replace('tag:', 'tag ')}, put there{' '}
      <When at={there.ended_at} sentence /> by{' '}
      <Link to={`/runs/${there.run}/${encodeURIComponent(there.job)}`}>{there.run}</Link>
    </>
  );
}

/** The first chosen alone is compared with what was there before it; with a second, the two with each other. */
function chosen(two: { from?: number; to?: number }, number: number): { from?: number; to?: number } {
  if (two.to === undefined || two.from !== undefined) return { to: number };
  if (two.to === number) return {};
  return { from: Math.min(two.to, number), to: Math.max(two.to, number) };
}

function History(props: { project: string; pages: Deployment[]; one: Environment }) {
  const { project, pages, one } = props;
  const [two, setTwo] = useState<{ from?: number; to?: number }>({});
  if (pages.length === 0) return <p className="empty">Nothing yet.</p>;
  return (
    <>
      {two.to && <Between project={project} environment={one.name} from={two.from} to={two.to} />}
      <table className="sheet">
        <thead>
          <tr>
            <th>number</th>
            <th>when</th>
            <th>from</th>
            <th>commit</th>
            <th>of</th>
            <th>by</th>
            <th>approved by</th>
            <th>outcome</th>
            <th>
              <span className="hidden">go back to it</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {pages.map((row) => (
            <tr key={row.number}>
              <td className="num">{row.number}</td>
              <td className="num">
                <When at={row.let_in_at} />
              </td>
              <td>
                <Link to={`/runs/${row.run}/${row.job}`}>{row.run}</Link>
              </td>
              <td>
                <span className="code">{row.commit.slice(0, 8)}</span>
              </td>
              <td>{row.reference.replace('tag:', 'tag ')}</td>
              <td>{row.by ?? 'a rule'}</td>
              <td>{row.approved_by.join(', ')}</td>
              <td>
                <Outcome row={row} />
              </td>
              <td className="acts">
                <button
                  type="button"
                  className="act plain"
                  aria-pressed={two.to === row.number || two.from === row.number}
                  aria-label={`Commits with ${row.number}`}
                  onClick={() => setTwo(chosen(two, row.number))}
                >
                  Commits
                </button>
                {row.outcome === 'well' && row.way !== 'close' && row.left_at && <GoBack one={one} row={row} />}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

const ends = {
  well: 'well',
  untouched: 'ended before it touched anything',
  failed: 'failed',
  lost: 'nobody knows',
} as const;
const colours = { well: 's-passed', untouched: '', failed: 's-failed', lost: 's-failed' } as const;

/** How it ended, with all that is out of the ordinary. */
function Outcome({ row }: { row: Deployment }) {
  const end = row.outcome;
  return (
    <>
      {row.way === 'roll_back' && <span>a roll-back: </span>}
      {row.way === 'undo' && <span>what was there before ({row.reason}): </span>}
      {row.way === 'close' && <span>taken away: </span>}
      {row.way === 'emergency' && (
        <span className="s-gated">
          an emergency ({row.reason}),{' '}
          {row.confirmed_by ? `confirmed by ${row.confirmed_by}` : 'not confirmed by anybody'}:{' '}
        </span>
      )}
      <span className={end ? colours[end] : 's-running'}>
        {end ? ends[end] : 'goes on'}
        {end === 'well' && row.way !== 'close' && !row.left_at && ', and there'}
      </span>
      {row.back && <span>; what was there is there again</span>}
      {row.why && <span className="soft">: {row.why}</span>}
      {row.trouble && <span className="soft">; {row.trouble}</span>}
    </>
  );
}
