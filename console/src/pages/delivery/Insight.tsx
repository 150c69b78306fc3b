// What the history of a project's environments comes to: how often, how long a commit takes, how much goes wrong, for how long.
import { useQuery } from '@tanstack/react-query';
import { lazy, Suspense, useState } from 'react';
import { answered, api, type Schemas } from '../../api/client';
import { Trouble } from '../../parts/Trouble';
import { age } from '../../parts/words';
import '../run/tests.css';

const Bars = lazy(() => import('./Bars'));

export default function Insight({ project }: { project: string }) {
  const [days, setDays] = useState(90);
  const { data, error } = useQuery({
    queryKey: ['insight', project, days],
    queryFn: () =>
      answered(api.GET('/api/v1/projects/{project}/insight', { params: { path: { project }, query: { days } } })),
    refetchInterval: 30_000,
  });
  if (error) return <Trouble error={error} />;
  if (!data || data.length === 0) return null;
  return (
    <section aria-label="Insight">
      <div className="bar title apart">
        <h2>Insight</h2>
        <span className="words">
          {[30, 90, 365].map((some) => (
            <button
              key={some}
              type="button"
              className="word"
              aria-pressed={some === days}
              onClick={() => setDays(some)}
            >
              {some} days
            </button>
          ))}
        </span>
      </div>
      <div className="plots">
        {data.map((one) => (
          <figure key={one.environment}>
            <figcaption>
              <b>{one.environment}</b>
              <span className="num">{one.deployments === 1 ? 'once' : `${one.deployments} times`}</span>
            </figcaption>
            <Suspense fallback={<div className="plot" />}>
              <Bars one={one} />
            </Suspense>
            <dl className="figures">
              <dt>from commit to there</dt>
              <dd>{one.lead_ms == null ? '–' : age(one.lead_ms)}</dd>
              <dt>went wrong</dt>
              <dd>{wrong(one)}</dd>
              <dt>well again after</dt>
              <dd>
                {one.mend_ms == null ? '–' : age(one.mend_ms)}
                {one.open && <span className="s-failed"> not yet</span>}
              </dd>
            </dl>
          </figure>
        ))}
      </div>
    </section>
  );
}

function wrong(one: Schemas['InsightView']): string {
  if (one.failed === 0) return 'none';
  return `${one.failed} of ${one.deployments}, ${Math.round((one.failed * 100) / one.deployments)} %`;
}
