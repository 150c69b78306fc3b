// A run's data: read whole once, and then only those jobs that have changed; its plan is read once.
import { useQuery } from '@tanstack/react-query';
import { answered, api, queries, type RunView } from '../../api/client';
import { useChanges } from '../../api/live';
import { merged } from './merge';

/** When more jobs than this changed at once, all are asked for. */
const MOST = 300;

export function useRun(project: string, number: number, looked: string | undefined) {
  const name = `${project}/${number}`;
  const queryKey = ['run', name];
  const path = { project, number };
  const ask = (jobs?: string) =>
    answered(api.GET('/api/v1/runs/{project}/{number}', { params: { path, query: { jobs } } }));
  const run = useQuery({ queryKey, queryFn: () => ask() });
  const plan = useQuery({
    queryKey: ['plan', name],
    // A plan never changes.
    staleTime: Number.POSITIVE_INFINITY,
    enabled: (run.data?.jobs?.length ?? 0) > 0,
    queryFn: () => answered(api.GET('/api/v1/runs/{project}/{number}/plan', { params: { path } })),
  });
  useChanges(async (changes) => {
    const changed = changes.runs.get(name);
    if (!changes.all && !changed) return;
    const known = queries.getQueryData<RunView>(queryKey);
    const few = changed && known?.jobs?.length && changed.jobs.size <= MOST;
    if (changes.all || !few) return queries.invalidateQueries({ queryKey, exact: true });
    // Why a job waits changes without an event of its own: the one that is looked at is asked for, too.
    const wanted = [...changed.jobs, ...(looked ? [looked] : [])];
    const some = await ask(wanted.join('\n'));
    queries.setQueryData<RunView>(queryKey, (old) => (old ? merged(old, some) : some));
  });
  return { run, plan };
}
