// Who did what: of the service, or of one project; filtered, page by page, and whether it is whole.
import { useInfiniteQuery } from '@tanstack/react-query';
import { Button, Input } from 'antd';
import { useState } from 'react';
import { Link, useParams } from 'react-router';
import { answered, api, Refused, type Schemas, useMe } from '../../api/client';
import { useNow } from '../../parts/now';
import { ProjectWords } from '../../parts/ProjectWords';
import { Trouble } from '../../parts/Trouble';
import { exact } from '../../parts/times';
import { age, time } from '../../parts/words';
import './journal.css';

type Row = Schemas['JournalView'];

interface Filter {
  by?: string;
  action?: string;
  since?: string;
  project?: string;
}

async function page(project: string | undefined, query: Filter & { cursor?: number }) {
  const { data, error, response } = project
    ? await api.GET('/api/v1/projects/{project}/journal', { params: { path: { project }, query } })
    : await api.GET('/api/v1/journal', { params: { query } });
  if (!data)
    throw new Refused(response.status, (error as { detail?: string })?.detail ?? 'the journal could not be read');
  const next = response.headers.get('link')?.match(/cursor=(\d+)/)?.[1];
  return { rows: data, next: next ? Number(next) : undefined };
}

/** A run is a place to go to; all else is a name. */
function What({ row }: { row: Row }) {
  const run = row.project && row.object.match(/^([a-z0-9_-]+\/\d+)(?: (.*))?$/);
  return run ? (
    <>
      <Link to={`/runs/${run[1]}`}>{run[1]}</Link> {run[2]}
    </>
  ) : (
    row.object
  );
}

export default function Journal() {
  const { project } = useParams();
  const [filter, setFilter] = useState<Filter>({});
  const now = useNow(false);
  const { data, error, hasNextPage, fetchNextPage } = useInfiniteQuery({
    queryKey: ['journal', project, filter],
    queryFn: ({ pageParam }) => page(project, { ...filter, cursor: pageParam }),
    initialPageParam: undefined as number | undefined,
    getNextPageParam: (last) => last.next,
    staleTime: 0,
  });
  const rows = data?.pages.flatMap((part) => part.rows) ?? [];
  const set = (key: keyof Filter) => (event: React.ChangeEvent<HTMLInputElement>) =>
    setFilter((known) => ({ ...known, [key]: event.target.value.trim() || undefined }));
  const days = (event: React.ChangeEvent<HTMLInputElement>) => {
    const count = Number(event.target.value);
    const since = count > 0 ? new Date(Date.now() - count * 86_400_000).toISOString() : undefined;
    setFilter((known) => ({ ...known, since }));
  };
  return (
    <>
      {project ? <ProjectWords project={project} at="journal" /> : <Head />}
      <div className="bar journal-filters">
        <Input placeholder="who: ines" aria-label="Who" onChange={set('by')} />
        <Input placeholder="did: secret, run.stop" aria-label="Did what" onChange={set('action')} />
        {!project && <Input placeholder="project: tidegauge" aria-label="Project" onChange={set('project')} />}
        <Input placeholder="in the last … days" aria-label="In the last days" inputMode="numeric" onChange={days} />
      </div>
      {error && <Trouble error={error} />}
      {data && rows.length === 0 && <p className="empty">Nothing that fits is in the journal.</p>}
      {rows.length > 0 && (
        <table className="sheet journal">
          <thead>
            <tr>
              <th>when</th>
              <th>who</th>
              <th>way</th>
              <th>did</th>
              {!project && <th>project</th>}
              <th>to what</th>
              <th>how</th>
            </tr>
          </thead>
          <tbody>
            {rows.map((row) => (
              <tr key={row.id}>
                <td className="num" title={`${exact(row.at)}, row ${row.id}`}>
                  {age(now - time(row.at))}
                </td>
                <td className="whole" title={row.address ?? undefined}>
                  {row.kind === 'service' && <span className="soft">rule </span>}
                  {row.who || <span className="soft">nobody</span>}
                </td>
                <td className="soft">{row.way}</td>
                <td className="code">{row.action}</td>
                {!project && <td>{row.project}</td>}
                <td>
                  <What row={row} />
                </td>
                <td className="how" title={row.change}>
                  {row.refused ? <span className="s-failed">{row.change}</span> : row.change}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {hasNextPage && (
        <Button className="more" onClick={() => fetchNextPage()}>
          Earlier
        </Button>
      )}
    </>
  );
}

function Head() {
  const { data: me } = useMe();
  const [told, setTold] = useState<string>();
  const verify = async () => {
    try {
      const found = await answered(api.POST('/api/v1/journal/verify', { body: {} }));
      setTold(
        found.whole
          ? `Whole: ${found.rows} rows; keep ${found.rows}:${found.digest?.slice(0, 12)}… elsewhere`
          : `NOT whole: ${found.why}`,
      );
    } catch (error) {
      setTold(error instanceof Error ? error.message : 'it could not be verified');
    }
  };
  return (
    <div className="bar title">
      <h1>Journal</h1>
      <span className="soft num" role="status">
        {told ?? 'Who did what. Each row holds a digest of the one before it.'}
      </span>
      <span className="grow" />
      {me?.role === 'owner' && (
        <>
          <Button size="small" onClick={verify}>
            Verify
          </Button>
          <a href="/api/v1/journal/export">Export as lines of JSON</a>
        </>
      )}
    </div>
  );
}
