// Secrets of a project: by name, where each goes. A value goes in and never comes out.

import { useQuery } from '@tanstack/react-query';
import { answered, api, done } from '../../api/client';
import { Act } from '../../parts/Act';
import { ACTS, Sheet } from '../../parts/Sheet';
import { Trouble } from '../../parts/Trouble';
import { When } from '../../parts/When';
import type { Of } from './of';
import { reachFields, reachOf, reachWords } from './reach';

const one = '/api/v1/projects/{project}/secrets/{name}' as const;

export default function Secrets({ project, may }: Of) {
  const { data, error } = useQuery({
    queryKey: ['secrets', project],
    queryFn: () => answered(api.GET('/api/v1/projects/{project}/secrets', { params: { path: { project } } })),
  });
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  return (
    <>
      {may && (
        <div className="say">
          <Act
            name="Set a secret"
            says="Jobs that name it get the value in a variable from now on; logs never show it, and neither does any page."
            fields={[
              { key: 'name', label: 'Name', needed: true, placeholder: 'STATION_KEY' },
              { key: 'value', label: 'Value', needed: true, secret: true },
              { key: 'environment', label: 'Only for this environment', placeholder: 'empty: for all others' },
              ...reachFields,
            ]}
            act={async (given) => {
              const { name = '', value = '', environment } = given;
              const params = {
                path: { project, name: name.trim() },
                query: { environment: environment?.trim() || undefined },
              };
              await done(api.PUT(one, { params, body: { value, ...reachOf(given) } }));
              return { words: `The secret ${name.trim()} is set.` };
            }}
          />
        </div>
      )}
      {data.length === 0 ? (
        <p className="empty">
          Here are values that jobs get by name: a job says <code>secrets = ["STATION_KEY"]</code> and finds it in a
          variable. No other job has it.
        </p>
      ) : (
        <Sheet heads={['name', 'environment', 'goes to', 'set by', 'set', ACTS]}>
          {data.map((secret) => (
            <tr key={`${secret.name} ${secret.environment}`}>
              <td className="code">{secret.name}</td>
              <td>{secret.environment ?? <span className="soft">all others</span>}</td>
              <td>{reachWords(secret)}</td>
              <td>{secret.set_by}</td>
              <td className="num">
                <When at={secret.set_at} />
              </td>
              <td className="acts">
                {may && (
                  <Act
                    name="Remove"
                    label={`Remove ${secret.name}${secret.environment ? ` for ${secret.environment}` : ''}`}
                    plain
                    says={`Jobs that name ${secret.name} do not get it any more, and end before they begin; the value is gone for good.`}
                    act={async () => {
                      const query = { environment: secret.environment ?? undefined };
                      await done(api.DELETE(one, { params: { path: { project, name: secret.name }, query } }));
                      return { words: `The secret ${secret.name} is removed.` };
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
