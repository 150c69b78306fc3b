// One test over a project's runs: when it failed, how long it took, and what it said.

import { useQuery } from '@tanstack/react-query';
import { Link, useParams, useSearchParams } from 'react-router';
import { answered, api, type Schemas } from '../../api/client';
import { Shape } from '../../look/states';
import { ProjectWords } from '../../parts/ProjectWords';
import { Sheet } from '../../parts/Sheet';
import { Trouble } from '../../parts/Trouble';
import { When } from '../../parts/When';
import { duration, many } from '../../parts/words';

type Row = Schemas['HistoryView'];

export default function OneTest() {
  const { project = '' } = useParams();
  const [search] = useSearchParams();
  const query = { suite: search.get('suite') ?? '', name: search.get('name') ?? '' };
  const { data, error } = useQuery({
    queryKey: ['test', project, query.suite, query.name],
    queryFn: () =>
      answered(api.GET('/api/v1/projects/{project}/test-history', { params: { path: { project }, query } })),
  });
  return (
    <>
      <ProjectWords project={project} at="test" />
      {error && <Trouble error={error} />}
      <h2>{query.name}</h2>
      <p className="facts">
        {query.suite && <span>{query.suite}</span>}
        {data && <span>{told(data)}</span>}
      </p>
      {data && (
        <Sheet heads={['run', 'ended', 'took', 'job', 'commit', 'branch', 'begun', 'what it said']}>
          {data.map((row) => (
            <tr key={`${row.run} ${row.job}`}>
              <td className="num">
                <Link to={`/runs/${row.run}/${encodeURIComponent(row.job)}`}>{row.run}</Link>
              </td>
              <td>
                <span className={`state s-${row.end}`}>
                  <Shape state={row.end} /> {row.end}
                  {row.wavered && ', at the second try'}
                </span>
              </td>
              <td className="num">{row.ms == null ? '' : duration(row.ms)}</td>
              <td>{row.job}</td>
              <td className="code">{row.commit.slice(0, 8)}</td>
              <td>{row.branch}</td>
              <td>
                <When at={row.at} />
              </td>
              <td className="soft">{row.message?.split('\n')[0]}</td>
            </tr>
          ))}
        </Sheet>
      )}
    </>
  );
}

function told(rows: Row[]): string {
  const failed = rows.filter((row) => row.end === 'failed').length;
  return `${many(rows.length, 'run')}, ${failed === 0 ? 'failed in none' : `failed in ${failed}`}`;
}
