// Insight over all projects: who takes how much of the runners, how long jobs queue, and what that costs.
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { answered, api, type Schemas } from '../../api/client';
import { Trouble } from '../../parts/Trouble';
import { duration } from '../../parts/words';
import { Days } from './Days';
import './insight.css';
import { length, money } from './say';

export default function All() {
  const [days, setDays] = useState(30);
  const { data, error } = useQuery({
    queryKey: ['insight', days],
    queryFn: () => answered(api.GET('/api/v1/insight', { params: { query: { days } } })),
    refetchInterval: 30_000,
  });
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  const whole = data.projects.reduce((sum, one) => sum + one.runner_ms, 0);
  return (
    <>
      <h1>{sentence(data.projects, whole)}</h1>
      <div className="bar insight-bar">
        <Days days={days} onDays={setDays} />
      </div>
      {data.projects.length === 0 ? (
        <p className="empty">Here is what each project takes of the runners, once jobs have ended.</p>
      ) : (
        <table className="sheet">
          <thead>
            <tr>
              <th>project</th>
              <th className="right">attempts</th>
              <th className="right">failed</th>
              <th className="right">half queue</th>
              <th className="right">most queue</th>
              <th className="right">cost</th>
              <th className="right">runners' time</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {data.projects.map((one) => (
              <tr key={one.project}>
                <td>
                  <Link to={`/projects/${one.project}/insight`}>{one.project}</Link>
                </td>
                <td className="num right">{one.attempts}</td>
                <td className="num right">{one.failed}</td>
                <td className="num right">{length(one.waited.p50_ms)}</td>
                <td className="num right">{length(one.waited.p90_ms)}</td>
                <td className="num right">{one.cost != null && money(one.cost)}</td>
                <td className="num right">{duration(one.runner_ms)}</td>
                <td>
                  <Part part={one.runner_ms / Math.max(1, whole)} />
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {data.unused_cost != null && data.unused_cost > 0 && (
        <p className="soft">Machines that no job used cost {money(data.unused_cost)}.</p>
      )}
      {data.cut && <p className="soft">There were more attempts than are looked at: these are the newest.</p>}
    </>
  );
}

function sentence(projects: Schemas['ProjectUse'][], whole: number): string {
  const first = projects[0];
  if (!first) return 'No job has ended in that time';
  const share = Math.round((100 * first.runner_ms) / Math.max(1, whole));
  const of = projects.length === 1 ? '' : `, ${share} % of it by ${first.project}`;
  return `${duration(whole)} of runners' time${of}`;
}

function Part({ part }: { part: number }) {
  const words = `${Math.round(100 * part)} %`;
  return (
    <svg className="share" width="160" height="10" role="img" aria-label={words}>
      <title>{words}</title>
      <rect className="whole" width={160 * part} height="10" />
    </svg>
  );
}
