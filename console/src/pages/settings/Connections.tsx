// Connections of a project: users and passwords for registries and the like.

import { useQuery } from '@tanstack/react-query';
import { answered, api, done } from '../../api/client';
import { Act } from '../../parts/Act';
import { ACTS, Sheet } from '../../parts/Sheet';
import { Trouble } from '../../parts/Trouble';
import { When } from '../../parts/When';
import type { Of } from './of';
import { reachFields, reachOf, reachWords } from './reach';

const one = '/api/v1/projects/{project}/connections/{name}' as const;

export default function Connections({ project, may }: Of) {
  const { data, error } = useQuery({
    queryKey: ['connections', project],
    queryFn: () => answered(api.GET('/api/v1/projects/{project}/connections', { params: { path: { project } } })),
  });
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  return (
    <>
      {may && (
        <div className="say">
          <Act
            name="Set a connection"
            says="Jobs that name it get its address, user and password in variables, and publish with it; the password is never shown again."
            fields={[
              { key: 'name', label: 'Name', needed: true, placeholder: 'registry' },
              { key: 'address', label: 'Address', placeholder: 'https://registry.example' },
              { key: 'user', label: 'User', needed: true },
              { key: 'password', label: 'Password or token', needed: true, secret: true },
              ...reachFields,
            ]}
            act={async (given) => {
              const { name = '', address, user = '', password = '' } = given;
              const body = { user, password, address: address?.trim() || null, ...reachOf(given) };
              await done(api.PUT(one, { params: { path: { project, name: name.trim() } }, body }));
              return { words: `The connection ${name.trim()} is set.` };
            }}
          />
        </div>
      )}
      {data.length === 0 ? (
        <p className="empty">
          Here are users and passwords for services outside: a job says <code>connections = ["registry"]</code>, or{' '}
          <code>publish</code> names one with <code>with</code>.
        </p>
      ) : (
        <Sheet heads={['name', 'address', 'user', 'goes to', 'set by', 'set', ACTS]}>
          {data.map((row) => (
            <tr key={row.name}>
              <td className="code">{row.name}</td>
              <td className="code">{row.address}</td>
              <td>{row.user}</td>
              <td>{reachWords(row)}</td>
              <td>{row.set_by}</td>
              <td className="num">
                <When at={row.set_at} />
              </td>
              <td className="acts">
                {may && (
                  <Act
                    name="Remove"
                    label={`Remove ${row.name}`}
                    plain
                    says={`Jobs that name ${row.name} do not get it any more; its password is gone for good.`}
                    act={async () => {
                      await done(api.DELETE(one, { params: { path: { project, name: row.name } } }));
                      return { words: `The connection ${row.name} is removed.` };
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
