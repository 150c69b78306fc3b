// The run that this one is compared with: chosen among the project's, drawn behind the lanes, and what got slower since.
import { useQuery } from '@tanstack/react-query';
import { useMemo, useState } from 'react';
import { answered, api, type JobView, type RunView } from '../../../api/client';
import { Dialog } from '../../../parts/Dialog';
import { useSearch } from '../../../parts/useSearch';
import { duration, many } from '../../../parts/words';
import { ghosts, slower } from './against';

export function useAgainst(run: RunView, jobs: JobView[], now: number) {
  const [search, put] = useSearch();
  const number = Number(search.get('with'));
  const path = { project: run.project, number };
  const { data: other } = useQuery({
    queryKey: ['run', `${run.project}/${number}`],
    enabled: Number.isInteger(number) && number > 0,
    queryFn: () => answered(api.GET('/api/v1/runs/{project}/{number}', { params: { path } })),
  });
  const against = number > 0 ? other : undefined;
  const drawn = useMemo(() => against && ghosts(against, now), [against, now]);
  const got = useMemo(() => (against ? slower(jobs, against, now) : []), [against, jobs, now]);
  const choose = (next: string) => put('with', next);
  return { run, other: against, ghosts: drawn, slower: got, choose };
}

export function Against({
  run,
  other,
  slower: got,
  choose,
  onChoose,
}: ReturnType<typeof useAgainst> & { onChoose: (id: string) => void }) {
  const [shown, setShown] = useState(false);
  // Only once someone wants to compare is it asked what there is to compare with.
  const [wanted, setWanted] = useState(other !== undefined);
  const { data } = useQuery({
    queryKey: ['runs', run.project, 'against', run.pipeline],
    enabled: wanted,
    queryFn: () =>
      answered(api.GET('/api/v1/runs', { params: { query: { project: run.project, pipeline: run.pipeline } } })),
  });
  const others = (data ?? []).filter((one) => one.number !== run.number && one.counts.length > 0);
  return (
    <>
      <select
        className="field"
        aria-label="Compare with another run"
        value={other ? String(other.number) : ''}
        onFocus={() => setWanted(true)}
        onMouseDown={() => setWanted(true)}
        onChange={(event) => choose(event.target.value)}
      >
        <option value="">compare with …</option>
        {other && !others.some((one) => one.number === other.number) && (
          <option value={other.number}>{`${other.number} ${other.state}`}</option>
        )}
        {others.map((one) => (
          <option key={one.run} value={one.number}>
            {`${one.number} ${one.state}: ${one.commit_title.slice(0, 48)}`}
          </option>
        ))}
      </select>
      {other && (
        <button type="button" className="link" onClick={() => setShown(true)}>
          {got.length === 0 ? 'nothing got slower' : `${many(got.length, 'job')} got slower`}
        </button>
      )}
      {shown && other && (
        <Dialog label="What got slower" className="slower" onClose={() => setShown(false)}>
          <div className="bar">
            <h2 className="grow">Slower than in {other.run}</h2>
            <button type="button" className="link" onClick={() => setShown(false)}>
              Close
            </button>
          </div>
          {got.length === 0 ? (
            <p className="panel-body soft">No job took notably longer than there.</p>
          ) : (
            <table className="sheet list">
              <thead>
                <tr>
                  <th>job</th>
                  <th>then</th>
                  <th>now</th>
                  <th>more</th>
                </tr>
              </thead>
              <tbody>
                {got.slice(0, 100).map((one) => (
                  <tr key={one.id}>
                    <td>
                      <button
                        type="button"
                        className="link"
                        onClick={() => {
                          setShown(false);
                          onChoose(one.id);
                        }}
                      >
                        {one.id}
                      </button>
                    </td>
                    <td className="num">{duration(one.before)}</td>
                    <td className="num">{duration(one.after)}</td>
                    <td className="num s-failed">{duration(one.after - one.before)}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
        </Dialog>
      )}
    </>
  );
}
