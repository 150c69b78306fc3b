// Roles that are held: given and taken away, on the service or on one project; both can be taken back.
import { api, done, type Schemas } from '../../api/client';
import { Act } from '../../parts/Act';
import { ACTS, Sheet } from '../../parts/Sheet';
import { When } from '../../parts/When';

type Role = Schemas['Role'];
type Grant = Schemas['GrantView'];

/** What each role may; each also what those before it may. */
export const roles: [Role, string][] = [
  ['reader', 'sees runs, logs, artifacts, plans'],
  ['operator', 'starts and stops'],
  ['editor', 'changes secrets, pipelines, settings'],
  ['owner', 'everything'],
];
/** The same, to choose one. */
const roleChoices: [string, string][] = roles.map(([role, what]) => [role, `${role}: ${what}`]);

const give = (who: string, role: Role, project: string | undefined) =>
  done(api.PUT('/api/v1/grants', { body: { who, role, project } }));
const take = (who: string, project: string | undefined) =>
  done(api.DELETE('/api/v1/grants', { params: { query: { who, project } } }));

/** Gives a role on a project, or on the one that is typed in, or the service; `all` are those that are held. */
export function GiveRole({ project, all }: { project?: string; all: Grant[] }) {
  const where = { key: 'project', label: 'Project; empty: the service', placeholder: 'tidegauge' };
  return (
    <Act
      name="Give a role"
      says={
        project
          ? 'Whoever gets it may do what the role allows on this project, besides what they may on the service.'
          : 'Whoever gets it may do what the role allows, there and at once; of several roles the highest counts.'
      }
      fields={[
        { key: 'who', label: 'Who', needed: true, placeholder: 'maren, or @keepers for a group' },
        { key: 'role', label: 'Role', is: 'operator', choices: roleChoices },
        ...(project ? [] : [where]),
      ]}
      act={async (given) => {
        const who = (given.who ?? '').trim();
        const on = project ?? (given.project?.trim() || undefined);
        const before = all.find((one) => one.who === who && (one.project ?? undefined) === on);
        await give(who, given.role as Role, on);
        const words = `${who} is ${given.role} of ${on ?? 'the service'}.`;
        return { words, undo: () => (before ? give(who, before.role, on) : take(who, on)) };
      }}
    />
  );
}

/** Who holds which role; on what, where that is not plain from the page. */
export function Grants({ of, owner, on }: { of: Grant[]; owner: boolean; on?: boolean }) {
  return (
    <Sheet heads={['who', 'role', ...(on ? ['on'] : []), 'given by', 'given', ...(owner ? [ACTS] : [])]}>
      {of.map((one) => (
        <tr key={`${one.who} ${one.project}`}>
          <td>{one.who}</td>
          <td title={roles.find(([role]) => role === one.role)?.[1]}>{one.role}</td>
          {on && <td>{one.project ?? 'the service'}</td>}
          <td>{one.given_by}</td>
          <td className="num">
            <When at={one.given_at} />
          </td>
          {owner && (
            <td className="acts">
              <TakeAway one={one} />
            </td>
          )}
        </tr>
      ))}
    </Sheet>
  );
}

function TakeAway({ one }: { one: Grant }) {
  const on = one.project ?? undefined;
  const where = on ?? 'the service';
  return (
    <Act
      name="Take away"
      label={`Take away the role of ${one.who} on ${where}`}
      plain
      atOnce
      says={
        on
          ? `${one.who} may do there what their role on the service allows, and no more.`
          : `${one.who} may do what their roles on projects allow, and no more.`
      }
      act={async () => {
        await take(one.who, on);
        return {
          words: `${one.who} is not ${one.role} of ${where} any more.`,
          undo: () => give(one.who, one.role, on),
        };
      }}
    />
  );
}
