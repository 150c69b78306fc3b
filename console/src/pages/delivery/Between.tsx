// The commits that lie between two deployments of an environment.
import { useQuery } from '@tanstack/react-query';
import { answered, api, type Schemas } from '../../api/client';
import { Trouble } from '../../parts/Trouble';

export function Between(props: { project: string; environment: string; from?: number; to: number }) {
  const { project, environment, from, to } = props;
  const { data, error } = useQuery({
    queryKey: ['between', project, environment, from, to],
    queryFn: () =>
      answered(
        api.GET('/api/v1/projects/{project}/environments/{environment}/commits', {
          params: { path: { project, environment }, query: { from, to } },
        }),
      ),
  });
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  return (
    <section aria-label="Commits between" className="between">
      <p>
        From {data.from ?? 'the beginning'} to {data.to}
        {data.came.length + data.went.length === 0 && ': no commit lies between them'}
        {data.more && '; there are more than these'}
      </p>
      <List verb="came" commits={data.came} />
      <List verb="went" commits={data.went} />
    </section>
  );
}

function List({ verb, commits }: { verb: string; commits: Schemas['BetweenCommit'][] }) {
  return (
    <ul className="plain">
      {commits.map((one) => (
        <li key={one.id}>
          <span className={verb === 'came' ? 's-passed' : 's-failed'}>{verb}</span>{' '}
          <span className="code">{one.id.slice(0, 8)}</span> {one.title} <span className="soft">{one.author}</span>
        </li>
      ))}
    </ul>
  );
}
