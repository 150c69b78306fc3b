// The board's data: read whole once, and then only those lines whose runs have changed.
import { useQuery } from '@tanstack/react-query';
import { answered, api, queries, type Schemas } from '../../api/client';
import { useChanges } from '../../api/live';
import { merged } from './lines';

type View = Schemas['BoardView'];
const KEY = ['board'];

export function useBoard() {
  const board = useQuery({ queryKey: KEY, queryFn: () => answered(api.GET('/api/v1/board')) });
  useChanges(async (changes) => {
    if (changes.all) return queries.invalidateQueries({ queryKey: KEY });
    if (!queries.getQueryData(KEY)) return;
    const asked = [...new Set([...changes.runs.keys()].map((run) => run.split('/')[0] ?? run))];
    const some = await answered(api.GET('/api/v1/board', { params: { query: { projects: asked.join(',') } } }));
    queries.setQueryData<View>(KEY, (old) => old && { ...some, projects: merged(old.projects, asked, some.projects) });
  });
  return board;
}
