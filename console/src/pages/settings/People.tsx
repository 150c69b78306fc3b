// Who sees a project, who holds a role on it, and what is done with proposals from outside.

import { useQuery } from '@tanstack/react-query';
import { answered, api, done, type Schemas, useMay } from '../../api/client';
import { Act } from '../../parts/Act';
import { Trouble } from '../../parts/Trouble';
import { GiveRole, Grants } from '../people/Grants';
import type { Of } from './of';
import { useProject } from './useProject';

const seen: [Schemas['Seen'], string][] = [
  ['all', 'all who are signed in'],
  ['granted', 'those who hold a role on it'],
  ['public', 'everybody, without signing in'],
];
const outside: [string, string][] = [
  ['ask', 'someone is asked about each commit of them'],
  ['run', 'they run like all others'],
  ['never', 'they do not run'],
];

export default function People({ project, may }: Of) {
  const { data, error } = useProject(project);
  const owner = useMay('owner', project);
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  const path = { params: { path: { name: project } } };
  const see = (value: Schemas['Seen']) =>
    done(api.PUT('/api/v1/projects/{name}/seen', { ...path, body: { seen: value } }));
  const treat = (value: string) =>
    done(api.PUT('/api/v1/projects/{name}/outside', { ...path, body: { outside: value } }));
  return (
    <>
      <dl className="told">
        <dt>Seen by</dt>
        <dd>
          {seen.find(([key]) => key === data.seen)?.[1]}{' '}
          {owner && (
            <Act
              name="Change"
              label="Change who sees it"
              says="From now on its runs, logs, artifacts and plans are seen by those whom you choose, and by nobody else."
              fields={[{ key: 'seen', label: 'Seen by', is: data.seen, choices: seen }]}
              act={async (given) => {
                await see(given.seen as Schemas['Seen']);
                const words = seen.find(([key]) => key === given.seen)?.[1];
                return { words: `${project} is seen by ${words}.`, undo: () => see(data.seen) };
              }}
            />
          )}
        </dd>
        <dt>Proposals from outside</dt>
        <dd>
          {outside.find(([key]) => key === data.outside)?.[1]}{' '}
          {may && (
            <Act
              name="Change"
              label="Change what is done with proposals from outside"
              says="It holds for what is offered from now on; their jobs never get secrets."
              fields={[{ key: 'outside', label: 'Proposals from outside', is: data.outside, choices: outside }]}
              act={async (given) => {
                await treat(given.outside ?? 'ask');
                const words = outside.find(([key]) => key === given.outside)?.[1];
                return { words: `Of proposals from outside, ${words}.`, undo: () => treat(data.outside) };
              }}
            />
          )}
        </dd>
      </dl>
      <Roles project={project} />
    </>
  );
}

function Roles({ project }: { project: string }) {
  const owner = useMay('owner');
  const { data } = useQuery({ queryKey: ['grants'], queryFn: () => answered(api.GET('/api/v1/grants')) });
  const own = data?.filter((one) => one.project === project) ?? [];
  return (
    <>
      <h2>Roles on this project</h2>
      {owner && (
        <div className="say">
          <GiveRole project={project} all={own} />
        </div>
      )}
      {own.length === 0 && (
        <p className="empty">Nobody holds a role on it alone: those on the service hold here, too.</p>
      )}
      {own.length > 0 && <Grants of={own} owner={owner} />}
    </>
  );
}
