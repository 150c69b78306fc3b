// Tokens for programs: one's own, or for owners everybody's.
import { useQuery } from '@tanstack/react-query';
import { Button, Input, Select } from 'antd';
import { useState } from 'react';
import { answered, api, type Schemas } from '../../api/client';
import { Trouble } from '../../parts/Trouble';
import { exact } from '../../parts/times';
import { When } from '../../parts/When';
import { useAct } from './act';
import { Told } from './Told';

const DAY_MS = 86_400_000;

export function Tokens({ all }: { all: boolean }) {
  const { data, error } = useQuery({
    queryKey: ['tokens', all],
    queryFn: () => answered(api.GET('/api/v1/tokens', { params: { query: { all } } })),
  });
  const { told, act } = useAct(['tokens']);
  const [made, setMade] = useState<Schemas['TokenView']>();
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  const may = (one: Schemas['TokenView']) =>
    [one.role && `as ${one.role}`, one.projects && `on ${one.projects.join(', ')}`].filter(Boolean).join(' ') ||
    'all that its person may';
  return (
    <>
      <h2>Tokens</h2>
      {!all && (
        <Make
          make={async (body) => setMade(await act(api.POST('/api/v1/tokens', { body }), `a token for ${body.name}`))}
        />
      )}
      <Told told={told} />
      {made?.token && (
        <p className="shown-once">
          Shown this once: <code>{made.token}</code>
        </p>
      )}
      {data.length === 0 && <p className="empty">Here are tokens that let programs act for you.</p>}
      {data.length > 0 && (
        <table className="sheet">
          <thead>
            <tr>
              {all && <th>of</th>}
              <th>for</th>
              <th>may</th>
              <th>made</th>
              <th>ends</th>
              <th>used last</th>
              <th>
                <span className="hidden">what can be done</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {data.map((one) => (
              <tr key={one.id}>
                {all && <td>{one.person}</td>}
                <td>{one.name}</td>
                <td>{may(one)}</td>
                <td>
                  <When at={one.made_at} />
                </td>
                <td className="num">{one.ends_at ? exact(one.ends_at) : 'never'}</td>
                <td>{one.used_at ? <When at={one.used_at} /> : 'never'}</td>
                <td className="acts">
                  <Button
                    size="small"
                    type="text"
                    aria-label={`End ${one.name}`}
                    onClick={() =>
                      act(
                        api.DELETE('/api/v1/tokens/{id}', { params: { path: { id: one.id } } }),
                        `the token for ${one.name} is ended`,
                      )
                    }
                  >
                    End
                  </Button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}

function Make({ make }: { make: (body: Schemas['NewToken']) => Promise<void> }) {
  const [name, setName] = useState('');
  const [role, setRole] = useState<Schemas['Role'] | ''>('');
  const [projects, setProjects] = useState('');
  const [days, setDays] = useState('90');
  return (
    <form
      className="people-line"
      onSubmit={(event) => {
        event.preventDefault();
        const list = projects.split(/[\s,]+/).filter(Boolean);
        make({
          name: name.trim(),
          role: role || undefined,
          projects: list.length > 0 ? list : undefined,
          ends_ms: Number(days) * DAY_MS,
        });
      }}
    >
      <Input
        aria-label="What for"
        placeholder="what for: a laptop"
        value={name}
        onChange={(event) => setName(event.target.value)}
      />
      <Select
        aria-label="No more than"
        className="w-180"
        value={role}
        onChange={setRole}
        options={[
          { value: '', label: 'all that you may' },
          ...(['reader', 'operator', 'editor', 'owner'] as const).map((value) => ({
            value,
            label: `as ${value} at most`,
          })),
        ]}
      />
      <Input
        aria-label="Only projects"
        placeholder="projects; empty: all"
        value={projects}
        onChange={(event) => setProjects(event.target.value)}
      />
      <Input
        aria-label="Days"
        className="w-110"
        suffix="days"
        inputMode="numeric"
        value={days}
        onChange={(event) => setDays(event.target.value)}
      />
      <Button htmlType="submit" disabled={!name.trim() || !(Number(days) > 0)}>
        Make a token
      </Button>
    </form>
  );
}
