// How pushes and proposals are told: by webhooks, by looking, or both.
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { answered, api, done, type Schemas } from '../../api/client';
import { Act } from '../../parts/Act';
import { Copy } from '../../parts/Copy';
import { Trouble } from '../../parts/Trouble';
import { When } from '../../parts/When';
import type { Of } from './of';
import { useProject } from './useProject';

const polls: [string, string, number | null][] = [
  ['usual', 'as its hooks and forge need', null],
  ['10', 'every ten seconds', 10_000],
  ['60', 'every minute', 60_000],
  ['600', 'every ten minutes', 600_000],
  ['never', 'never', 0],
];

const wordsOf = (ms: number | null | undefined) =>
  polls.find(([, , one]) => one === (ms ?? null))?.[1] ?? `every ${(ms ?? 0) / 1000} s`;

export default function Hooks({ project, may }: Of) {
  const { data, error } = useProject(project);
  const [secret, setSecret] = useState<string>();
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  return (
    <dl className="told">
      <dt>Webhook address</dt>
      <dd>
        <Copy label="Webhook address" is={data.hook_url} />
      </dd>
      <dt>Webhook secret</dt>
      <dd>
        {secret ? <Copy label="Webhook secret, shown this once" is={secret} /> : <p className="soft">kept sealed</p>}
        {may && (
          <Act
            name="Make a new one"
            label="Make a new one: the webhook secret"
            says="The one before is of no use from this moment on: deliveries are refused until the forge has the new one. It is shown once."
            act={async () => {
              const made = await answered(
                api.POST('/api/v1/projects/{project}/hook-secret', { params: { path: { project } } }),
              );
              setSecret(made.hook_secret);
              return { words: 'A new webhook secret is made: give it to the forge.' };
            }}
          />
        )}
      </dd>
      <dt>Read as</dt>
      <dd>{data.profile}</dd>
      <dt>Newest delivery</dt>
      <dd>
        <Newest project={project} />
      </dd>
      <dt>Looked at</dt>
      <dd>
        {wordsOf(data.poll_ms)}
        {data.looked_at && (
          <span className="soft">
            {' '}
            · last <When at={data.looked_at} sentence />
          </span>
        )}{' '}
        {may && <Poll project={project} is={data.poll_ms ?? null} />}
        {data.found && <p className="s-gated">Found by looking, that no hook had told: {data.found}</p>}
      </dd>
    </dl>
  );
}

function Newest({ project }: { project: string }) {
  const { data } = useQuery({
    queryKey: ['deliveries', project, 'newest'],
    refetchInterval: 2_000,
    queryFn: () => answered(api.GET('/api/v1/projects/{project}/deliveries', { params: { path: { project } } })),
  });
  const newest: Schemas['DeliveryView'] | undefined = data?.[0];
  if (!newest) return <span className="soft">none in the last week</span>;
  return (
    <Link to={`/projects/${project}/deliveries/${newest.id}`}>
      <When at={newest.at} sentence />: {newest.events.join('; ') || newest.why}
    </Link>
  );
}

function Poll({ project, is }: { project: string; is: number | null }) {
  const set = (poll_ms: number | null) =>
    done(api.PUT('/api/v1/projects/{name}/poll', { params: { path: { name: project } }, body: { poll_ms } }));
  return (
    <Act
      name="Change"
      label="Change how often it is looked at"
      says="The repository is looked at so often for what no hook has told."
      fields={[
        {
          key: 'poll',
          label: 'How often',
          is: polls.find(([, , ms]) => ms === is)?.[0] ?? 'usual',
          choices: polls.map(([key, words]) => [key, words]),
        },
      ]}
      act={async ({ poll }) => {
        const [, words, ms] = polls.find(([key]) => key === poll) ?? ['', '', null];
        await set(ms);
        return { words: `${project} is looked at ${words}.`, undo: () => set(is) };
      }}
    />
  );
}
