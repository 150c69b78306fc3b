// A project's runs, newest first, with a filter.

import { useInfiniteQuery, useQuery } from '@tanstack/react-query';
import { Button, Input } from 'antd';
import { useState } from 'react';
import { Link, useParams } from 'react-router';
import { api, Refused, type RunView } from '../../api/client';
import { StateWord } from '../../look/states';
import { useNow } from '../../parts/now';
import { ProjectWords } from '../../parts/ProjectWords';
import { Sheet } from '../../parts/Sheet';
import { Trouble } from '../../parts/Trouble';
import { When } from '../../parts/When';
import { duration, took } from '../../parts/words';

async function page(project: string, cursor: number | undefined) {
  const { data, error, response } = await api.GET('/api/v1/runs', { params: { query: { project, cursor } } });
  if (!data)
    throw new Refused(
      response.status,
      (error as { detail?: string } | undefined)?.detail ?? 'the runs could not be read',
    );
  const next = response.headers.get('link')?.match(/cursor=(\d+)/)?.[1];
  return { runs: data, next: next ? Number(next) : undefined };
}

/** The branch, the tag, or what a proposal is aimed at. */
function place(run: RunView): string {
  if (run.occasion.target) return `→ ${run.occasion.target}`;
  return run.occasion.tag ? `tag ${run.occasion.tag}` : (run.branch ?? '');
}

export default function Project() {
  const { project = '' } = useParams();
  const [filter, setFilter] = useState('');
  const now = useNow(true);
  // Only the newest page is asked for again when a run changes; what was loaded of earlier ones stays.
  const newest = useQuery({ queryKey: ['runs', project], queryFn: () => page(project, undefined) });
  const next = newest.data?.next;
  const [from, setFrom] = useState<number>();
  const earlier = useInfiniteQuery({
    queryKey: ['earlier', project, from],
    queryFn: ({ pageParam }) => page(project, pageParam),
    initialPageParam: from,
    getNextPageParam: (last) => last.next,
    enabled: from !== undefined,
    staleTime: Number.POSITIVE_INFINITY,
  });
  const error = newest.error ?? earlier.error;
  if (error) return <Trouble error={error} />;
  if (!newest.data) return null;
  const all = new Map<string, RunView>();
  for (const part of [...(earlier.data?.pages ?? []), newest.data]) for (const run of part.runs) all.set(run.run, run);
  const runs = [...all.values()].sort((a, b) => b.number - a.number);
  const hasNextPage = from === undefined ? next !== undefined : earlier.hasNextPage;
  const fetchNextPage = () => (from === undefined ? setFrom(next) : earlier.fetchNextPage());
  const fits = (run: RunView) =>
    `${run.run} ${run.state} ${run.branch} ${run.commit_title} ${run.commit_author}`
      .toLowerCase()
      .includes(filter.toLowerCase());
  return (
    <>
      <ProjectWords project={project} at="runs" />
      <div className="bar title">
        <span className="grow" />
        <Input
          className="w-240"
          placeholder="filter: failed, main, Ines …"
          aria-label="Filter runs"
          value={filter}
          onChange={(event) => setFilter(event.target.value)}
        />
      </div>
      {runs.length === 0 ? (
        <p className="empty">
          Here are the project's runs. Push a commit, or start one with <code>ordotaxis start {project}</code>
        </p>
      ) : (
        <Sheet heads={['run', 'state', 'commit', 'branch', 'by', 'time', 'begun', 'what happened']}>
          {runs.filter(fits).map((run) => (
            <tr key={run.run}>
              <td className="num">
                <Link to={`/runs/${run.run}`}>{run.number}</Link>
              </td>
              <td>
                <StateWord state={run.state} />
              </td>
              <td>
                <span className="code">{run.commit.slice(0, 8)}</span> {run.commit_title}
              </td>
              <td>{place(run)}</td>
              <td>{run.commit_author}</td>
              <td className="num">{run.started_at && run.counts.length > 0 && duration(took(run, now) ?? 0)}</td>
              <td className="num">
                <When at={run.created_at} />
              </td>
              <td className="soft">{run.sentence}</td>
            </tr>
          ))}
        </Sheet>
      )}
      {hasNextPage && (
        <Button className="later" onClick={() => fetchNextPage()}>
          Earlier runs
        </Button>
      )}
    </>
  );
}
