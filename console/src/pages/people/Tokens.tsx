// Tokens for programs: one's own, or for owners everybody's.
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { answered, api, done, type Schemas } from '../../api/client';
import { Act } from '../../parts/Act';
import { ACTS, Sheet } from '../../parts/Sheet';
import { Trouble } from '../../parts/Trouble';
import { exact } from '../../parts/times';
import { When } from '../../parts/When';
import { roles } from './Grants';

type Token = Schemas['TokenView'];

const DAY_MS = 86_400_000;

/** What a token may, in words. */
const may = (one: Token) =>
  [one.role && `as ${one.role}`, one.projects && `on ${one.projects.join(', ')}`].filter(Boolean).join(' ') ||
  'all that its person may';

export function Tokens({ all }: { all: boolean }) {
  const { data, error } = useQuery({
    queryKey: ['tokens', all],
    queryFn: () => answered(api.GET('/api/v1/tokens', { params: { query: { all } } })),
  });
  const [made, setMade] = useState<Token>();
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  return (
    <>
      <h2>Tokens</h2>
      {!all && (
        <div className="people-line">
          <Make onMade={setMade} />
        </div>
      )}
      {made?.token && (
        <p className="shown-once">
          Shown this once: <code>{made.token}</code>
        </p>
      )}
      {data.length === 0 && <p className="empty">Here are tokens that let programs act for you.</p>}
      {data.length > 0 && (
        <Sheet heads={[...(all ? ['of'] : []), 'for', 'may', 'made', 'ends', 'used last', ACTS]}>
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
                <End one={one} />
              </td>
            </tr>
          ))}
        </Sheet>
      )}
    </>
  );
}

function Make({ onMade }: { onMade: (made: Token) => void }) {
  const most: [string, string][] = [['', 'all that you may'], ...roles.map(pairOf)];
  return (
    <Act
      name="Make a token"
      says="A program that has it does what you may, or less, until it ends. It is shown once."
      fields={[
        { key: 'name', label: 'What for', needed: true, placeholder: 'a laptop' },
        { key: 'role', label: 'No more than', choices: most },
        { key: 'projects', label: 'Only on these projects; empty: all', placeholder: 'tidegauge stations' },
        { key: 'days', label: 'Days until it ends', is: '90', needed: true },
      ]}
      act={async ({ name = '', role, projects = '', days }) => {
        if (!(Number(days) > 0)) throw new Error('the days until it ends are a number above 0');
        const list = projects.split(/[\s,]+/).filter(Boolean);
        const body = {
          name: name.trim(),
          role: (role || undefined) as Schemas['Role'] | undefined,
          projects: list.length > 0 ? list : undefined,
          ends_ms: Number(days) * DAY_MS,
        };
        const made = await answered(api.POST('/api/v1/tokens', { body }));
        onMade(made);
        const undo = () => end(made.id);
        return { words: `The token for ${body.name} is made, and shown above the list.`, undo };
      }}
    />
  );
}

const pairOf = ([role]: [Schemas['Role'], string]): [string, string] => [role, `as ${role} at most`];

const end = (id: number) => done(api.DELETE('/api/v1/tokens/{id}', { params: { path: { id } } }));

function End({ one }: { one: Token }) {
  return (
    <Act
      name="End"
      label={`End the token for ${one.name}`}
      plain
      says={`What uses the token for ${one.name} is refused from now on. It cannot be taken back.`}
      act={async () => {
        await end(one.id);
        return { words: `The token for ${one.name} is ended.` };
      }}
    />
  );
}
