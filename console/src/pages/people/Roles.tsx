// Who holds which role on what.

import { useQuery } from '@tanstack/react-query';
import { Button, Input, Select } from 'antd';
import { useState } from 'react';
import { answered, api, type Schemas } from '../../api/client';
import { ACTS, Sheet } from '../../parts/Sheet';
import { Trouble } from '../../parts/Trouble';
import { When } from '../../parts/When';
import { useAct } from './act';
import { Told } from './Told';

type Role = Schemas['Role'];

const roles: [Role, string][] = [
  ['reader', 'sees runs, logs, artifacts, plans'],
  ['operator', 'starts and stops'],
  ['editor', 'changes secrets, pipelines, settings'],
  ['owner', 'everything'],
];

export function Roles({ owner }: { owner: boolean }) {
  const { data, error } = useQuery({ queryKey: ['grants'], queryFn: () => answered(api.GET('/api/v1/grants')) });
  const { told, act } = useAct(['grants', 'persons', 'me']);
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  const remove = ({ who, project }: Schemas['GrantView']) =>
    act(
      api.DELETE('/api/v1/grants', { params: { query: { who, project: project ?? undefined } } }),
      `${who} holds no role of its own on ${project ?? 'the service'} any more`,
    );
  return (
    <>
      {owner && (
        <Give
          give={(body) =>
            act(api.PUT('/api/v1/grants', { body }), `${body.who} is ${body.role} of ${body.project ?? 'the service'}`)
          }
        />
      )}
      <Told told={told} />
      <Sheet heads={['who', 'role', 'on', 'given by', 'given', ACTS]}>
        {data.map((one) => (
          <tr key={`${one.who} ${one.project}`}>
            <td>{one.who}</td>
            <td title={roles.find(([role]) => role === one.role)?.[1]}>{one.role}</td>
            <td>{one.project ?? 'the service'}</td>
            <td>{one.given_by}</td>
            <td className="num">
              <When at={one.given_at} />
            </td>
            <td className="acts">
              {owner && (
                <Button size="small" type="text" onClick={() => remove(one)} aria-label={`Take away from ${one.who}`}>
                  Take away
                </Button>
              )}
            </td>
          </tr>
        ))}
      </Sheet>
      <p className="soft">
        Each role holds what those before it hold: {roles.map(([role, what]) => `${role} ${what}`).join('; ')}. A
        project is seen by all who are signed in, unless <code>ordotaxis project seen</code> says otherwise.
      </p>
    </>
  );
}

function Give({ give }: { give: (body: Schemas['SetGrant']) => Promise<unknown> }) {
  const [who, setWho] = useState('');
  const [role, setRole] = useState<Role>('operator');
  const [project, setProject] = useState('');
  return (
    <form
      className="people-line"
      onSubmit={(event) => {
        event.preventDefault();
        give({ who: who.trim(), role, project: project.trim() || undefined });
      }}
    >
      <Input
        aria-label="Who"
        placeholder="who: maren, @keepers"
        value={who}
        onChange={(event) => setWho(event.target.value)}
      />
      <Select
        aria-label="Role"
        className="w-320"
        value={role}
        onChange={setRole}
        options={roles.map(([value, what]) => ({ value, label: `${value}: ${what}` }))}
      />
      <Input
        aria-label="Project"
        placeholder="project; empty: the service"
        value={project}
        onChange={(event) => setProject(event.target.value)}
      />
      <Button htmlType="submit" disabled={!who.trim()}>
        Give the role
      </Button>
    </form>
  );
}
