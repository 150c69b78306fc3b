// Groups: named lists of persons, written @NAME.
import { useQuery } from '@tanstack/react-query';
import { answered, api, done, type Schemas } from '../../api/client';
import { Act, type Given } from '../../parts/Act';
import { ACTS, Sheet } from '../../parts/Sheet';
import { Trouble } from '../../parts/Trouble';

type Group = Schemas['GroupView'];

const of = (name: string) => ({ params: { path: { name } } });
const set = (name: string, members: string[]) =>
  done(api.PUT('/api/v1/groups/{name}', { ...of(name), body: { members } }));
const remove = (name: string) => done(api.DELETE('/api/v1/groups/{name}', of(name)));

const MEMBERS = { key: 'members', label: 'Members: these and no others', placeholder: 'tomas maren' };

/** Sets a group to who was typed in; undone, it is as it was, or not there. */
async function setTo(name: string, given: Given, all: Group[]) {
  const plain = name.trim().replace(/^@/, '');
  const before = all.find((one) => one.name === plain);
  await set(plain, (given.members ?? '').split(/[\s,]+/).filter(Boolean));
  return { words: `@${plain} is set.`, undo: () => (before ? set(plain, before.members) : remove(plain)) };
}

export function Groups({ owner }: { owner: boolean }) {
  const { data, error } = useQuery({ queryKey: ['groups'], queryFn: () => answered(api.GET('/api/v1/groups')) });
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  return (
    <>
      {owner && (
        <div className="people-line">
          <Act
            name="Set a group"
            says="Its members get the roles that the group holds, and are asked where it is to approve."
            fields={[{ key: 'name', label: 'Group', needed: true, placeholder: 'keepers' }, MEMBERS]}
            act={(given) => setTo(given.name ?? '', given, data)}
          />
        </div>
      )}
      {data.length === 0 && (
        <p className="empty">
          Here are groups of persons, who can be given a role together:{' '}
          <code>ordotaxis group set keepers tomas maren</code>
        </p>
      )}
      {data.length > 0 && (
        <Sheet heads={['group', 'members', ...(owner ? [ACTS] : [])]}>
          {data.map((one) => (
            <tr key={one.name}>
              <td>@{one.name}</td>
              <td>{one.members.join(', ')}</td>
              {owner && (
                <td className="acts">
                  <Act
                    name="Change"
                    label={`Change @${one.name}`}
                    plain
                    says="Whoever comes gets the roles that the group holds; whoever goes has them no more."
                    fields={[{ ...MEMBERS, is: one.members.join(' ') }]}
                    act={(given) => setTo(one.name, given, data)}
                  />
                  <Act
                    name="Remove"
                    label={`Remove @${one.name}`}
                    plain
                    says={`@${one.name} and the roles that it holds are no more; its members stay. It cannot be taken back.`}
                    act={async () => {
                      await remove(one.name);
                      return { words: `@${one.name} is removed.` };
                    }}
                  />
                </td>
              )}
            </tr>
          ))}
        </Sheet>
      )}
    </>
  );
}
