// The rules of a project, and the pipelines that the service keeps in place of the repository.
import { useQuery } from '@tanstack/react-query';
import { Button } from 'antd';
import { useState } from 'react';
import { Link } from 'react-router';
import { answered, api, done, type Schemas, useMay } from '../../api/client';
import { Act } from '../../parts/Act';
import { say, wordsOf } from '../../parts/said';
import { Trouble } from '../../parts/Trouble';
import { When } from '../../parts/When';
import type { Of } from './of';

export default function Files(of: Of) {
  return (
    <>
      <Rules {...of} />
      <Kept {...of} />
    </>
  );
}

function Rules({ project }: Of) {
  const owner = useMay('owner', project);
  const { data, error } = useQuery({
    queryKey: ['rules', project],
    queryFn: () => answered(api.GET('/api/v1/projects/{project}/rules', { params: { path: { project } } })),
  });
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  return (
    <>
      <h2>Rules</h2>
      {data.trouble && <p className="notice s-failed">{data.trouble}</p>}
      <p className="pad">
        {data.file ? (
          <>
            <span className="code">{data.path}</span> on the main branch holds.
          </>
        ) : (
          <>
            There is no <span className="code">{data.path}</span> on the main branch: nothing is asked of changes.
          </>
        )}{' '}
        <Link to={`/projects/${project}/draft/rules`}>Open it in Draft</Link>
      </p>
      <KeptRules key={data.kept} project={project} may={owner} is={data.kept} />
    </>
  );
}

/** What the service keeps besides: it only makes the rules stricter. */
function KeptRules({ project, may, is }: Of & { is: string }) {
  const [text, setText] = useState(is);
  const [wrong, setWrong] = useState<string>();
  const put = (next: string) =>
    done(api.PUT('/api/v1/projects/{project}/rules', { params: { path: { project } }, body: { text: next } }));
  const keep = async () => {
    setWrong(undefined);
    try {
      await put(text);
      say({ words: 'These rules hold from now on, besides those of the main branch.', undo: () => put(is) });
    } catch (error) {
      setWrong(wordsOf(error));
    }
  };
  return (
    <div className="pad">
      <p>
        <label htmlFor="kept-rules">Kept by the service besides: they make the rules stricter, never looser.</label>
      </p>
      <textarea
        id="kept-rules"
        className="field code kept-rules"
        readOnly={!may}
        rows={8}
        placeholder={'rules = 1\n\n[branch.main]\nland = "queue"'}
        value={text}
        onChange={(event) => setText(event.target.value)}
      />
      <p>
        {may && (
          <Button disabled={text === is} onClick={() => void keep()}>
            {text.trim() === '' ? 'Keep none' : 'Keep them'}
          </Button>
        )}{' '}
        {wrong && (
          <span className="s-failed" role="alert">
            {wrong}
          </span>
        )}
      </p>
    </div>
  );
}

function Kept({ project, may }: Of) {
  const { data } = useQuery({
    queryKey: ['pipelines', project, undefined],
    queryFn: () =>
      answered(api.GET('/api/v1/projects/{project}/pipelines', { params: { path: { project }, query: {} } })),
  });
  const kept = data?.filter((one) => one.version != null) ?? [];
  return (
    <>
      <h2>Pipelines kept by the service</h2>
      {kept.length === 0 && (
        <p className="empty">
          None: every pipeline is read from the repository. Draft keeps one here in place of the repository's, for a
          repository that cannot be written to.
        </p>
      )}
      {kept.map((one) => (
        <Versions key={one.name} project={project} may={may} name={one.name} />
      ))}
    </>
  );
}

function Versions({ project, may, name }: Of & { name: string }) {
  const path = { project, pipeline: name };
  const { data } = useQuery({
    queryKey: ['stored', project, name],
    queryFn: () => answered(api.GET('/api/v1/projects/{project}/stored/{pipeline}', { params: { path } })),
  });
  const put = (text: string, message: string, on: number) =>
    answered(
      api.PUT('/api/v1/projects/{project}/stored/{pipeline}', { params: { path }, body: { text, message, on } }),
    );
  const newest = data?.[0];
  if (!newest) return null;
  return (
    <>
      <h3 className="pad">
        <Link to={`/projects/${project}/draft/${name}`}>{name}</Link>{' '}
        {may && (
          <Act
            name="Take out"
            label={`Take out ${name}`}
            says={`The repository's own file of ${name} counts again from the next run on; the versions here stay to be looked at.`}
            act={async () => {
              const out = await put('', 'taken out', newest.version);
              const undo = () => put(newest.text, `as in version ${newest.version}`, out.version);
              return { words: `${name} is read from the repository again.`, undo };
            }}
          />
        )}
      </h3>
      <table className="sheet">
        <tbody>
          {data?.map((one: Schemas['VersionView']) => (
            <tr key={one.version}>
              <td className="num">{one.version}</td>
              <td className="num">
                <When at={one.at} />
              </td>
              <td>{one.by}</td>
              <td>{one.message}</td>
              <td className="soft">{one.text === '' && 'taken out'}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}
