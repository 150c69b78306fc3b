// What one is told, of which projects and by which way; what one was told last; and a sample.
import { useQuery } from '@tanstack/react-query';
import { Button, Checkbox, Select } from 'antd';
import { useState } from 'react';
import { Link } from 'react-router';
import { answered, api, done, type Schemas } from '../../api/client';
import { Shape } from '../../look/states';
import { performOrTell } from '../../parts/perform';
import { Trouble } from '../../parts/Trouble';
import { When } from '../../parts/When';
import './people.css';

type Choice = Schemas['ChoiceView'];
type View = Schemas['NoticesView'];

/** Does it, and says how it went in these words. */
const act = (call: Parameters<typeof done>[0], words: string) =>
  performOrTell(async () => {
    await done(call);
    return { words };
  });

export default function Notices() {
  const { data, error } = useQuery({
    queryKey: ['notices'],
    queryFn: () => answered(api.GET('/api/v1/notices')),
    refetchInterval: 5_000,
  });
  return (
    <>
      <div className="bar title">
        <h1>Your notices</h1>
        <span className="soft grow">{data && where(data)}</span>
        <Button
          disabled={!data?.mail || !data.sends_mail}
          onClick={() => act(api.POST('/api/v1/notices/sample'), 'A sample is on its way.')}
        >
          Send me a sample
        </Button>
      </div>
      {error && <Trouble error={error} />}
      {data && <Choices view={data} />}
      {data && <Last rows={data.last} />}
    </>
  );
}

/** Where notices go. */
function where(view: View): string {
  if (!view.sends_mail) return 'This service sends no mail: its configuration has no [mail].';
  if (!view.mail) return 'You have no mail address here; an owner sets it on the page People.';
  return `Mail goes to ${view.mail}.`;
}

function Choices({ view }: { view: View }) {
  const { data: projects } = useQuery({ queryKey: ['projects'], queryFn: () => answered(api.GET('/api/v1/projects')) });
  const all = view.choices.find((choice) => !choice.project) ?? view.usual;
  const own = view.choices.filter((choice) => choice.project);
  const free = projects?.map((one) => one.name).filter((name) => !own.some((choice) => choice.project === name)) ?? [];
  const set = (project: string | undefined, part: Partial<Choice>) => {
    const body = { on: part.on, whose: part.whose, by: part.by, project };
    act(api.PUT('/api/v1/notices', { body }), 'Kept.');
  };
  const drop = (project: string | undefined) =>
    act(api.DELETE('/api/v1/notices', { params: { query: { project } } }), 'The usual holds again.');
  return (
    <>
      <table className="sheet">
        <thead>
          <tr>
            <th>project</th>
            {view.occasions.map((one) => (
              <th key={one.word} title={one.says}>
                {one.word}
              </th>
            ))}
            <th>of what</th>
            <th>by</th>
            <th>
              <span className="hidden">what can be done</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {[all, ...own].map((choice) => {
            const name = choice.project ?? (own.length > 0 ? 'all others' : 'all projects');
            const project = choice.project ?? undefined;
            return (
              <tr key={name}>
                <td>{name}</td>
                {view.occasions.map((one) => (
                  <td key={one.word}>
                    <Checkbox
                      aria-label={`${one.word} of ${name}`}
                      checked={choice.on.includes(one.word)}
                      onChange={(event) => {
                        const rest = choice.on.filter((word) => word !== one.word);
                        set(project, { on: event.target.checked ? [...rest, one.word] : rest });
                      }}
                    />
                  </td>
                ))}
                <td>
                  <Select
                    size="small"
                    aria-label={`Of what of ${name}`}
                    value={choice.whose}
                    className="w-190"
                    onChange={(whose) => set(project, { whose })}
                    options={[
                      { value: 'own', label: 'what concerns me' },
                      { value: 'all', label: 'everything' },
                    ]}
                  />
                </td>
                <td>
                  <Select
                    size="small"
                    aria-label={`By which way of ${name}`}
                    value={choice.by}
                    className="w-110"
                    onChange={(by) => set(project, { by })}
                    options={[
                      { value: 'mail', label: 'mail' },
                      { value: 'nothing', label: 'nothing' },
                    ]}
                  />
                </td>
                <td className="acts">
                  {view.choices.includes(choice) && (
                    <Button size="small" type="text" aria-label={`As usual: ${name}`} onClick={() => drop(project)}>
                      As usual
                    </Button>
                  )}
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
      <AddLine free={free} onAdd={(project) => set(project, {})} />
      <dl className="legend soft">
        {view.occasions.map((one) => (
          <div key={one.word}>
            <dt>{one.word}</dt>
            <dd>{one.says}</dd>
          </div>
        ))}
      </dl>
    </>
  );
}

function AddLine({ free, onAdd }: { free: string[]; onAdd: (project: string) => void }) {
  const [project, setProject] = useState<string>();
  if (free.length === 0) return null;
  return (
    <div className="people-line later">
      <Select
        aria-label="Project"
        placeholder="a line for one project"
        value={project}
        className="w-220"
        onChange={setProject}
        options={free.map((value) => ({ value, label: value }))}
      />
      <Button
        disabled={!project}
        onClick={() => {
          if (project) onAdd(project);
          setProject(undefined);
        }}
      >
        Add
      </Button>
    </div>
  );
}

const shapes: Record<string, 'passed' | 'failed' | 'waiting'> = { sent: 'passed', 'given up': 'failed' };

function Last({ rows }: { rows: Schemas['NoticeView'][] }) {
  if (rows.length === 0) return <p className="empty">You were told nothing in the last 30 days.</p>;
  return (
    <>
      <h2 className="apart">What you were told</h2>
      <table className="sheet">
        <tbody>
          {rows.map((row) => {
            const like = shapes[row.state] ?? 'waiting';
            return (
              <tr key={row.id}>
                <td className="num">
                  <When at={row.at} />
                </td>
                <td>
                  <span className={`state s-${like}`}>
                    <Shape state={like} />
                    {row.state}
                  </span>
                </td>
                <td>
                  <Link to={new URL(row.link).pathname}>{row.project}</Link>
                </td>
                <td>
                  {row.sentence}
                  {row.why && <div className="soft">{row.why}</div>}
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
    </>
  );
}
