// What a job gave: artifacts, facts, numbers.
import { useQuery } from '@tanstack/react-query';
import { answered, api, type JobView, type RunView } from '../../api/client';
import { isEnd } from '../../look/states';
import { bytes, many } from '../../parts/words';

export function Given({ run, job }: { run: RunView; job: JobView }) {
  const params = { path: { project: run.project, number: run.number } };
  const { data } = useQuery({
    queryKey: ['run', run.run, 'results', 'artifacts'],
    queryFn: () => answered(api.GET('/api/v1/runs/{project}/{number}/artifacts', { params })),
  });
  const own = data?.filter((artifact) => artifact.job === job.id) ?? [];
  const facts = Object.entries(job.facts ?? {});
  const numbers = Object.entries(job.numbers ?? {}).filter(([name]) => !name.startsWith('fact.'));
  if (own.length + facts.length + numbers.length === 0)
    return (
      <p className="panel-body soft">
        {isEnd(job.state) ? 'This job has given nothing.' : 'What this job gives is listed here when it has passed.'}
      </p>
    );
  return (
    <div className="panel-body">
      <table className="sheet">
        <tbody>
          {own.map((artifact) => (
            <tr key={artifact.name}>
              <td>
                <a href={artifact.url} download>
                  {artifact.name}
                </a>
              </td>
              <td className="num">{many(artifact.files, 'file')}</td>
              <td className="num">{bytes(artifact.bytes)}</td>
              <td className="code soft">{artifact.digest.slice(0, 19)}…</td>
            </tr>
          ))}
        </tbody>
      </table>
      <Pairs title="Facts" pairs={facts} />
      <Pairs title="Numbers" pairs={numbers.map(([name, value]) => [name, String(Number(value.toFixed(2)))])} />
    </div>
  );
}

function Pairs({ title, pairs }: { title: string; pairs: [string, string][] }) {
  if (pairs.length === 0) return null;
  return (
    <>
      <h3>{title}</h3>
      <table className="sheet">
        <tbody>
          {pairs.map(([name, value]) => (
            <tr key={name}>
              <td>{name}</td>
              <td className="code">{value}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}
