// What a project keeps over runs: numbers as lines, caches, and tests that turn by themselves.

import { useQuery } from '@tanstack/react-query';
import { lazy, Suspense } from 'react';
import { Link, useParams } from 'react-router';
import { answered, api, done, useMay } from '../../api/client';
import { Act } from '../../parts/Act';
import { ProjectWords } from '../../parts/ProjectWords';
import { Sheet } from '../../parts/Sheet';
import { Trouble } from '../../parts/Trouble';
import { When } from '../../parts/When';
import { bytes, many } from '../../parts/words';
import '../run/tests.css';

const Plot = lazy(() => import('./Plot'));

export default function Kept({ what }: { what: 'numbers' | 'caches' | 'flaky' }) {
  const { project = '' } = useParams();
  return (
    <>
      <ProjectWords project={project} at={what} />
      {what === 'numbers' && <Numbers project={project} />}
      {what === 'caches' && <Caches project={project} />}
      {what === 'flaky' && <Flaky project={project} />}
    </>
  );
}

function Numbers({ project }: { project: string }) {
  const { data, error } = useQuery({
    queryKey: ['kept', project, 'numbers'],
    queryFn: () => answered(api.GET('/api/v1/projects/{project}/numbers', { params: { path: { project } } })),
  });
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  if (data.length === 0)
    return (
      <p className="empty">
        No run has given numbers yet. Reports do, and facts with <code>{'{ name = "size", number = true }'}</code>
      </p>
    );
  return (
    <div className="plots">
      {data.map((series) => (
        <figure key={series.name}>
          <figcaption>
            <b>{series.name}</b>
            <span className="num">{Number((series.points.at(-1)?.value ?? 0).toFixed(2))}</span>
          </figcaption>
          <Suspense fallback={<div className="plot" />}>
            <Plot series={series} />
          </Suspense>
        </figure>
      ))}
    </div>
  );
}

function Caches({ project }: { project: string }) {
  const may = useMay('editor', project);
  const { data, error } = useQuery({
    queryKey: ['kept', project, 'caches'],
    queryFn: () => answered(api.GET('/api/v1/projects/{project}/caches', { params: { path: { project } } })),
  });
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  if (data.length === 0)
    return (
      <p className="empty">
        This project has no caches yet. A job keeps folders from run to run with{' '}
        <code>{'[[job.STAGE.NAME.cache]]'}</code>
      </p>
    );
  const total = data.reduce((sum, one) => sum + one.stored_bytes, 0);
  return (
    <>
      <p className="soft num">
        {many(data.length, 'entry', 'entries')}; {bytes(total)} were new to the store when they were saved.
      </p>
      <table className="sheet">
        <thead>
          <tr>
            <th>key</th>
            <th>files</th>
            <th>size</th>
            <th>new when saved</th>
            <th>saved by</th>
            <th>used</th>
            <th>times</th>
            <th>
              <span className="hidden">drop</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {data.map((one) => (
            <tr key={one.key}>
              <td className="code">{one.key}</td>
              <td className="num">{one.files}</td>
              <td className="num">{bytes(one.bytes)}</td>
              <td className="num">{bytes(one.stored_bytes)}</td>
              <td>
                <Link to={`/runs/${one.run}/${one.job}`}>
                  {one.run} {one.job}
                </Link>
              </td>
              <td className="num">
                <When at={one.used_at} />
              </td>
              <td className="num">{one.uses}</td>
              <td>{may && <Drop project={project} cache={one.key} />}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}

function Drop({ project, cache }: { project: string; cache: string }) {
  return (
    <Act
      name="Drop"
      label={`Drop ${cache}`}
      says="The next job that asks for it begins without, and makes it anew; it does not come back."
      act={async () => {
        await done(
          api.DELETE('/api/v1/projects/{project}/caches', { params: { path: { project }, query: { key: cache } } }),
        );
        return { words: `${cache} is dropped.` };
      }}
    />
  );
}

function Flaky({ project }: { project: string }) {
  const { data, error } = useQuery({
    queryKey: ['kept', project, 'flaky'],
    queryFn: () => answered(api.GET('/api/v1/projects/{project}/flaky-tests', { params: { path: { project } } })),
  });
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  if (data.length === 0)
    return <p className="empty">In its last 200 runs no test both passed and failed with nothing changed.</p>;
  return (
    <Sheet heads={['test', 'job', 'turned', 'last in']}>
      {data.map((one) => (
        <tr key={`${one.job} ${one.suite} ${one.name}`}>
          <td>
            {one.suite && <span className="soft">{one.suite} › </span>}
            {one.name}
          </td>
          <td>{one.job}</td>
          <td className="num">{one.times === 1 ? 'once' : `${one.times.toLocaleString('en')} times`}</td>
          <td>
            <Link to={`/runs/${one.newest}?view=tests`}>{one.newest}</Link>
          </td>
        </tr>
      ))}
    </Sheet>
  );
}
