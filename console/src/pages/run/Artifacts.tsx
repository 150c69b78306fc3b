// What a run's jobs have given: each artifact with its folders to walk through, text, pictures and pages shown beside.
// A page that a job wrote is shown in a frame that can do nothing here.

import { useQuery } from '@tanstack/react-query';
import { Button } from 'antd';
import { useEffect, useState } from 'react';
import { answered, api, queries, type RunView, type Schemas } from '../../api/client';
import { Middle } from '../../parts/Middle';
import { Sheet } from '../../parts/Sheet';
import { Trouble } from '../../parts/Trouble';
import { exact } from '../../parts/times';
import { bytes, many } from '../../parts/words';
import './tests.css';

type Artifact = Schemas['ArtifactView'];
type File = Schemas['FileView'];

/** More is not shown as text. */
const TEXT_LIMIT = 256 * 1024;

export default function Artifacts({ run }: { run: RunView }) {
  const [chosen, setChosen] = useState<Artifact>();
  const [folder, setFolder] = useState('');
  const [file, setFile] = useState<File>();
  const params = { path: { project: run.project, number: run.number } };
  const { data, error } = useQuery({
    queryKey: ['run', run.run, 'results', 'artifacts'],
    queryFn: () => answered(api.GET('/api/v1/runs/{project}/{number}/artifacts', { params })),
  });
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  const open = data.find((one) => one.url === chosen?.url) ?? data[0];
  if (!open)
    return (
      <p className="empty">
        No job of this run has given anything yet. A job gives files with <code>{'gives = { name = ["out/*"] }'}</code>
      </p>
    );
  const choose = (one: Artifact) => {
    setChosen(one);
    setFolder('');
    setFile(undefined);
  };
  const pin = async (one: Artifact) => {
    const path = { ...params.path, job: one.job, name: one.name };
    const address = '/api/v1/runs/{project}/{number}/artifacts/{job}/{name}/pin';
    await (one.pinned_by ? api.DELETE(address, { params: { path } }) : api.PUT(address, { params: { path } }));
    queries.invalidateQueries({ queryKey: ['run', run.run, 'results', 'artifacts'] });
  };
  return (
    <div className="tests">
      <section aria-label="Artifacts">
        <Sheet heads={['artifact', 'files', 'size', 'kept', 'fetch']}>
          {data.map((one) => (
            <tr key={one.url}>
              <td>
                <button
                  type="button"
                  className="plain"
                  aria-pressed={one.url === open.url}
                  onClick={() => choose(one)}
                  title={one.digest}
                >
                  {one.url === open.url ? <b>{`${one.job}/${one.name}`}</b> : `${one.job}/${one.name}`}
                </button>
              </td>
              <td className="num">{one.files}</td>
              <td className="num" title={`${bytes(one.stored_bytes)} of it was new to the store, packed`}>
                {bytes(one.bytes)}
              </td>
              <td>
                <Button
                  size="small"
                  onClick={() => pin(one)}
                  title={one.kept_until ? `until ${exact(one.kept_until)}` : ''}
                >
                  {one.pinned_by ? `pinned by ${one.pinned_by}` : 'Pin'}
                </Button>
              </td>
              <td>
                <a href={one.url} download>
                  tar.zst
                </a>{' '}
                ·{' '}
                <a href={`${one.url}?form=zip`} download>
                  zip
                </a>
              </td>
            </tr>
          ))}
        </Sheet>
        <Folder artifact={open} run={run} folder={folder} onFolder={setFolder} file={file} onFile={setFile} />
      </section>
      <section aria-label="Chosen file">
        {file ? (
          <Shown key={`${open.url}${file.path}`} artifact={open} run={run} file={file} />
        ) : (
          <div className="panel-body soft">
            <p>Choose a file to see it.</p>
            <p className="code digest">{open.digest}</p>
          </div>
        )}
      </section>
    </div>
  );
}

function Folder({
  artifact,
  run,
  folder,
  onFolder,
  file,
  onFile,
}: {
  artifact: Artifact;
  run: RunView;
  folder: string;
  onFolder: (folder: string) => void;
  file: File | undefined;
  onFile: (file: File) => void;
}) {
  const path = { project: run.project, number: run.number, job: artifact.job, name: artifact.name };
  const { data } = useQuery({
    queryKey: ['folder', artifact.url, artifact.digest, folder],
    queryFn: () =>
      answered(
        api.GET('/api/v1/runs/{project}/{number}/artifacts/{job}/{name}/folder', {
          params: { path, query: { folder } },
        }),
      ),
  });
  if (!data) return null;
  const join = (name: string) => (folder ? `${folder}/${name}` : name);
  const up = folder.split('/').slice(0, -1).join('/');
  return (
    <>
      <h3>
        {artifact.job}/{artifact.name}
        {folder && <span className="soft"> / {folder}</span>}
      </h3>
      <ul>
        {folder && (
          <li>
            <button type="button" className="plain" onClick={() => onFolder(up)}>
              <span />
              <span>..</span>
            </button>
          </li>
        )}
        {data.folders.map((one) => (
          <li key={one.name}>
            <button type="button" className="plain" onClick={() => onFolder(join(one.name))}>
              <span />
              <Middle name={`${one.name}/`} />
              <span className="soft num">{many(one.files, 'file')}</span>
              <span className="soft num">{bytes(one.bytes)}</span>
            </button>
          </li>
        ))}
        {data.files.map((one) => (
          <li key={one.path}>
            <button
              type="button"
              className="plain"
              aria-pressed={file?.path === one.path}
              onClick={() => onFile(one)}
              title={one.digest ?? ''}
            >
              <span />
              <span className="cut">
                {one.path.slice(folder ? folder.length + 1 : 0)}
                {one.link && <span className="soft"> → {one.link}</span>}
              </span>
              <span className="soft code">{one.mode}</span>
              <span className="soft num">{bytes(one.bytes)}</span>
            </button>
          </li>
        ))}
      </ul>
    </>
  );
}

function Shown({ artifact, run, file }: { artifact: Artifact; run: RunView; file: File }) {
  const [text, setText] = useState<string>();
  const [page, setPage] = useState<string>();
  const address = `${artifact.url}/file?path=${encodeURIComponent(file.path)}`;
  const ending = file.path.split('.').at(-1)?.toLowerCase() ?? '';
  const picture = ['png', 'jpg', 'jpeg', 'gif', 'webp', 'svg'].includes(ending);
  const html = ['html', 'htm'].includes(ending);
  useEffect(() => {
    const path = { project: run.project, number: run.number, job: artifact.job, name: artifact.name };
    if (html)
      answered(api.POST('/api/v1/runs/{project}/{number}/artifacts/{job}/{name}/show', { params: { path } })).then(
        (shown) => setPage(shown.url + file.path),
        () => setPage(undefined),
      );
    else if (!picture && !file.link && file.bytes <= TEXT_LIMIT)
      fetch(address)
        .then((answer) => answer.text())
        .then(setText, () => setText(undefined));
  }, [address, artifact, file, html, picture, run]);
  const readable = text !== undefined && !text.includes('\0');
  return (
    <>
      <div className="panel-head">
        <h2>{file.path}</h2>
        <div className="soft num">
          {file.link ? `a link to ${file.link}` : `${bytes(file.bytes)}, mode ${file.mode}`}{' '}
          {!file.link && (
            <a href={address} download={file.path.split('/').at(-1)}>
              fetch
            </a>
          )}
        </div>
        {file.digest && <div className="code soft cut">{file.digest}</div>}
      </div>
      {picture && <img src={address} alt={file.path} />}
      {html && page && <iframe title={file.path} src={page} sandbox="allow-scripts allow-popups" />}
      {readable && <pre className="source">{text}</pre>}
      {!picture && !html && !file.link && !readable && (
        <p className="panel-body soft">
          {file.bytes > TEXT_LIMIT ? 'Too large to show here.' : 'Not a text, so it is not shown.'}
        </p>
      )}
    </>
  );
}
