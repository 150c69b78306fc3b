// Groups: named lists of persons, written @NAME.

import { useQuery } from '@tanstack/react-query';
import { Button, Input, Popconfirm } from 'antd';
import { useState } from 'react';
import { answered, api } from '../../api/client';
import { ACTS, Sheet } from '../../parts/Sheet';
import { Trouble } from '../../parts/Trouble';
import { useAct } from './act';
import { Told } from './Told';

export function Groups({ owner }: { owner: boolean }) {
  const { data, error } = useQuery({ queryKey: ['groups'], queryFn: () => answered(api.GET('/api/v1/groups')) });
  const { told, act } = useAct(['persons', 'groups', 'grants']);
  const [name, setName] = useState('');
  const [members, setMembers] = useState('');
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  const set = (event: React.FormEvent) => {
    event.preventDefault();
    const plain = name.trim().replace(/^@/, '');
    const body = { members: members.split(/[\s,]+/).filter(Boolean) };
    act(api.PUT('/api/v1/groups/{name}', { params: { path: { name: plain } }, body }), `@${plain} is set`);
  };
  return (
    <>
      {owner && (
        <form className="people-line" onSubmit={set}>
          <Input
            aria-label="Group"
            placeholder="group: keepers"
            value={name}
            onChange={(event) => setName(event.target.value)}
          />
          <Input
            className="wide"
            aria-label="Members"
            placeholder="who is in it, these and no others: tomas maren"
            value={members}
            onChange={(event) => setMembers(event.target.value)}
          />
          <Button htmlType="submit" disabled={!name.trim()}>
            Set the group
          </Button>
        </form>
      )}
      <Told told={told} />
      {data.length === 0 && (
        <p className="empty">
          Here are groups of persons, who can be given a role together:{' '}
          <code>ordotaxis group set keepers tomas maren</code>
        </p>
      )}
      {data.length > 0 && (
        <Sheet heads={['group', 'members', ACTS]}>
          {data.map((one) => (
            <tr key={one.name}>
              <td>@{one.name}</td>
              <td>{one.members.join(', ')}</td>
              <td className="acts">
                {owner && (
                  <>
                    <Button
                      size="small"
                      type="text"
                      onClick={() => {
                        setName(one.name);
                        setMembers(one.members.join(' '));
                      }}
                    >
                      Change
                    </Button>
                    <Popconfirm
                      title={`Remove @${one.name}, and with it its roles?`}
                      okText="Remove"
                      onConfirm={() =>
                        act(
                          api.DELETE('/api/v1/groups/{name}', { params: { path: { name: one.name } } }),
                          `@${one.name} is removed`,
                        )
                      }
                    >
                      <Button size="small" type="text" aria-label={`Remove ${one.name}`}>
                        Remove
                      </Button>
                    </Popconfirm>
                  </>
                )}
              </td>
            </tr>
          ))}
        </Sheet>
      )}
    </>
  );
}
