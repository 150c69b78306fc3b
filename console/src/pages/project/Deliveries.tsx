// What a project's forge sent: how each delivery was read, what came of it, and the reason where nothing did. One opens
// beside the list, with its headers and its body.

import { useInfiniteQuery, useQuery } from '@tanstack/react-query';
import { Button, Segmented } from 'antd';
import { useState } from 'react';
import { Link, useNavigate, useParams } from 'react-router';
import { answered, api, queries, Refused, type Schemas } from '../../api/client';
import { Shape } from '../../look/states';
import { ProjectWords } from '../../parts/ProjectWords';
import { Sheet } from '../../parts/Sheet';
import { Trouble } from '../../parts/Trouble';
import { exact } from '../../parts/times';
import { When } from '../../parts/When';
import { bytes } from '../../parts/words';
import './deliveries.css';

type Delivery = Schemas['DeliveryView'];

async function page(project: string, state: string | undefined, cursor: number | undefined) {
  const { data, error, response } = await api.GET('/api/v1/projects/{project}/deliveries', {
    params: { path: { project }, query: { state, cursor } },
  });
  if (!data)
    throw new Refused(response.status, (error as { detail?: string })?.detail ?? 'the deliveries could not be read');
  const next = response.headers.get('link')?.match(/cursor=(\d+)/)?.[1];
  return { rows: data, next: next ? Number(next) : undefined };
}

/** A delivery's state, drawn as what it means. */
function DeliveryState({ state }: { state: string }) {
  const like = state === 'taken' ? 'passed' : state === 'nothing' ? 'skipped' : 'failed';
  return (
    <span className={`state s-${like}`}>
      <Shape state={like} />
      {state}
    </span>
  );
}

/** What came of a delivery: runs are places to go to. */
function Outcome({ project, delivery }: { project: string; delivery: Delivery }) {
  if (delivery.outcomes.length === 0) return delivery.why;
  return delivery.outcomes.map((outcome) => {
    const said = outcome.said ?? 'not looked at yet';
    const run = said.match(/^run (\d+)/)?.[1];
    return (
      <div key={outcome.work}>
        {outcome.state === 'given up' && 'given up: '}
        {run ? <Link to={`/runs/${project}/${run}`}>{said}</Link> : said}
      </div>
    );
  });
}

export default function Deliveries() {
  const { project = '', delivery: chosen } = useParams();
  const navigate = useNavigate();
  const [state, setState] = useState('all');
  const { data, error, hasNextPage, fetchNextPage } = useInfiniteQuery({
    queryKey: ['deliveries', project, state],
    queryFn: ({ pageParam }) => page(project, state === 'all' ? undefined : state, pageParam),
    initialPageParam: undefined as number | undefined,
    getNextPageParam: (last) => last.next,
    refetchInterval: 5_000,
  });
  const rows = data?.pages.flatMap((part) => part.rows) ?? [];
  return (
    <>
      <ProjectWords project={project} at="deliveries" />
      <div className="bar title">
        <span className="soft">What the forge sent, kept for a week.</span>
        <span className="grow" />
        <Segmented
          aria-label="Which deliveries"
          value={state}
          onChange={setState}
          options={['all', 'taken', 'nothing', 'unread', 'refused']}
        />
      </div>
      {error && <Trouble error={error} />}
      {data && rows.length === 0 && (
        <p className="empty">
          Nothing {state === 'all' ? 'came from a forge' : `was ${state}`}.{' '}
          <code>ordotaxis project show {project}</code> says where webhooks go;{' '}
          <code>ordotaxis hook secret {project}</code> makes the secret that signs them.
        </p>
      )}
      {rows.length > 0 && (
        <div className={chosen ? 'deliveries chosen' : 'deliveries'}>
          <div>
            <Sheet heads={['delivery', 'came', 'state', 'what it said', 'what came of it']}>
              {rows.map((row) => (
                <tr key={row.id} aria-current={chosen === String(row.id) ? 'true' : undefined}>
                  <td className="num">
                    <Link to={`/projects/${project}/deliveries/${row.id}`}>{row.id}</Link>
                  </td>
                  <td className="num">
                    <When at={row.at} />
                  </td>
                  <td>
                    <DeliveryState state={row.state} />
                  </td>
                  <td>
                    {row.events.map((event) => (
                      <div key={event}>{event}</div>
                    ))}
                    {row.times > 1 && <span className="soft">came {row.times} times</span>}
                  </td>
                  <td className="soft">
                    <Outcome project={project} delivery={row} />
                  </td>
                </tr>
              ))}
            </Sheet>
            {hasNextPage && (
              <Button className="later" onClick={() => fetchNextPage()}>
                Earlier deliveries
              </Button>
            )}
          </div>
          {chosen && (
            <One project={project} id={Number(chosen)} onClose={() => navigate(`/projects/${project}/deliveries`)} />
          )}
        </div>
      )}
    </>
  );
}

/** JSON over several lines; anything else as it came. */
function readable(body: string): string {
  try {
    return JSON.stringify(JSON.parse(body), null, 2);
  } catch {
    return body;
  }
}

function One({ project, id, onClose }: { project: string; id: number; onClose: () => void }) {
  const [told, setTold] = useState<string>();
  const { data, error } = useQuery({
    queryKey: ['delivery', project, id],
    queryFn: () =>
      answered(api.GET('/api/v1/projects/{project}/deliveries/{id}', { params: { path: { project, id } } })),
  });
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  const again = async () => {
    const { data: read, error: refused } = await api.POST('/api/v1/projects/{project}/deliveries/{id}/again', {
      params: { path: { project, id } },
    });
    setTold(read ? `read once more: ${read.state}` : ((refused as { detail?: string })?.detail ?? 'it was not read'));
    queries.invalidateQueries({ queryKey: ['deliveries', project] });
    queries.invalidateQueries({ queryKey: ['delivery', project, id] });
  };
  return (
    <section className="delivery" aria-label={`Delivery ${id}`}>
      <div className="bar title">
        <h2>Delivery {id}</h2>
        <DeliveryState state={data.state} />
        <span className="grow" />
        {data.state !== 'refused' && (
          <Button size="small" onClick={again}>
            Read once more
          </Button>
        )}
        <Button size="small" onClick={onClose}>
          Close
        </Button>
      </div>
      {data.why && <p>{data.why}</p>}
      <p role="status" className="soft">
        {told}
      </p>
      <dl>
        {data.address && (
          <>
            <dt>from</dt>
            <dd>{data.address}</dd>
          </>
        )}
        <dt>came</dt>
        <dd>{exact(data.at)}</dd>
        {Object.entries(data.headers).map(([name, value]) => (
          <div key={name} className="pair">
            <dt>{name}</dt>
            <dd>{value}</dd>
          </div>
        ))}
      </dl>
      <h3>Body, {bytes(data.size)}</h3>
      {/* biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls is reached by the keyboard */}
      <pre tabIndex={0}>{readable(data.body ?? '')}</pre>
    </section>
  );
}
