// What can be done to an environment: promote, roll back, freeze, thaw, close.
import { useNavigate } from 'react-router';
import { api, done, type Schemas, useMay } from '../../api/client';
import { stopRun } from '../../api/stop';
import { Act } from '../../parts/Act';
import { until } from '../../parts/times';

type Environment = Schemas['EnvironmentView'];
type Deployment = Schemas['DeploymentView'];

const at = (one: Environment) => ({ params: { path: { project: one.project, environment: one.name } } });

const frozen = '/api/v1/projects/{project}/environments/{environment}/frozen' as const;
const freeze = (one: Environment, body: Schemas['Freeze']) => done(api.PUT(frozen, { ...at(one), body }));
const thaw = (one: Environment) => done(api.DELETE(frozen, at(one)));

/** What someone may do to it as it is now. */
export function EnvironmentActs({ one }: { one: Environment }) {
  const navigate = useNavigate();
  const operator = useMay('operator', one.project);
  const editor = useMay('editor', one.project);
  if (!operator) return null;
  const begun = (made: { run: string } | undefined, words: string) => {
    if (made) navigate(`/runs/${made.run}`);
    return { words, undo: made && (() => stopRun(made.run)) };
  };
  return (
    <div className="say later">
      {!one.closed_at && (
        <>
          <Act
            name="Promote"
            label={`Promote to ${one.name}`}
            says={`What the newest run made that is well in the environments before is put into ${one.name}, as its rules let it in; nothing is built anew.`}
            act={async () =>
              begun(
                await done(
                  api.POST('/api/v1/projects/{project}/environments/{environment}/promotion', { ...at(one), body: {} }),
                ),
                `A promotion to ${one.name} has begun.`,
              )
            }
          />
          {one.present && (
            <Act
              name="Roll back"
              label={`Roll back ${one.name}`}
              says={`What was in ${one.name} before ${one.present.commit.slice(0, 8)} is put there again; it goes past a frost.`}
              act={async () =>
                begun(
                  await done(
                    api.POST('/api/v1/projects/{project}/environments/{environment}/roll-back', {
                      ...at(one),
                      body: {},
                    }),
                  ),
                  `A roll-back of ${one.name} has begun.`,
                )
              }
            />
          )}
          {editor && (one.frozen ? <Thaw one={one} by={one.frozen} /> : <Freeze one={one} />)}
        </>
      )}
    </div>
  );
}

function Freeze({ one }: { one: Environment }) {
  return (
    <Act
      name="Freeze"
      label={`Freeze ${one.name}`}
      says={`Nothing is let into ${one.name} any more but roll-backs and emergencies; what waits keeps its place.`}
      fields={[
        { key: 'reason', label: 'Why', needed: true },
        { key: 'until', label: 'For how long', placeholder: '2h, 3d; empty: until it is thawed' },
      ]}
      act={async ({ reason, until: length }) => {
        await freeze(one, { reason: reason ?? '', until: until(length ?? '', Date.now()) });
        return { words: `${one.name} is frozen.`, undo: () => thaw(one) };
      }}
    />
  );
}

function Thaw({ one, by }: { one: Environment; by: NonNullable<Environment['frozen']> }) {
  return (
    <Act
      name="Thaw"
      label={`Thaw ${one.name}`}
      atOnce
      says={`Things are let into ${one.name} again, what waits first.`}
      act={async () => {
        await thaw(one);
        return { words: `${one.name} is thawed.`, undo: () => freeze(one, { reason: by.reason, until: by.until }) };
      }}
    />
  );
}

/** Back to one of those that were there before. */
export function GoBack({ one, row }: { one: Environment; row: Deployment }) {
  const navigate = useNavigate();
  if (!useMay('operator', one.project)) return null;
  return (
    <Act
      name="Go back"
      label={`Go back to ${row.number}`}
      says={`What ${row.run} put into ${one.name} (${row.commit.slice(0, 8)}) is put there again, in place of what is there now; it goes past a frost.`}
      act={async () => {
        const made = await done(
          api.POST('/api/v1/projects/{project}/environments/{environment}/roll-back', {
            ...at(one),
            body: { to: row.number },
          }),
        );
        if (made) navigate(`/runs/${made.run}`);
        return { words: `A roll-back of ${one.name} has begun.`, undo: made && (() => stopRun(made.run)) };
      }}
    />
  );
}
