// Who sees a project, who holds a role on it, and what is done with proposals from outside.

import { useQuery } from '@tanstack/react-query';
import { answered, api, done, type Schemas, useMay } from '../../api/client';
import { Act } from '../../parts/Act';
import { ACTS, Sheet } from '../../parts/Sheet';
import { Trouble } from '../../parts/Trouble';
import { When } from '../../parts/When';
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
const roles: [Schemas['Role'], string][] = [
  ['reader', 'reader: sees runs, logs, artifacts, plans'],
  ['operator', 'operator: starts and stops'],
  ['editor', 'editor: changes secrets, pipelines, settings'],
  ['owner', 'owner: everything'],
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
  const give = (who: string, role: Schemas['Role']) =>
    done(api.PUT('/api/v1/grants', { body: { who, role, project } }));
  const take = (who: string) => done(api.DELETE('/api/v1/grants', { params: { query: { who, project } } }));
  const own = data?.filter((one) => one.project === project) ?? [];
  return (
    <>
      <h2>Roles on this project</h2>
      {owner && (
        <div className="say">
          <Act
            name="Give a role"
            says="Whoever gets it may do what the role allows on this project, besides what they may on the service."
            fields={[
              { key: 'who', label: 'Who', needed: true, placeholder: 'maren, or @keepers for a group' },
              { key: 'role', label: 'Role', is: 'operator', choices: roles },
            ]}
            act={async ({ who = '', role }) => {
              await give(who.trim(), role as Schemas['Role']);
              return { words: `${who.trim()} is ${role} of ${project}.`, undo: () => take(who.trim()) };
            }}
          />
        </div>
      )}
      {own.length === 0 && (
        <p className="empty">Nobody holds a role on it alone: those on the service hold here, too.</p>
      )}
      {own.length > 0 && (
        <Sheet heads={['who', 'role', 'given by', 'given', ACTS]}>
          {own.map((one) => (
            <tr key={one.who}>
              <td>{one.who}</td>
              <td>{one.role}</td>
              <td>{one.given_by}</td>
              <td className="num">
                <When at={one.given_at} />
              </td>
              <td className="acts">
                {owner && (
                  <Act
                    name="Take away"
                    label={`Take away the role of ${one.who}`}
                    plain
                    atOnce
                    says={`${one.who} may do here what their role on the service allows, and no more.`}
                    act={async () => {
                      await take(one.who);
                      return { words: `${one.who} is no ${one.role} any more.`, undo: () => give(one.who, one.role) };
                    }}
                  />
                )}
              </td>
            </tr>
          ))}
        </Sheet>
      )}
    </>
  );
}
