// One release: its notes, what is fetched of it, what it rests on; and what someone can do with it.

import { useQuery } from '@tanstack/react-query';
import { Input } from 'antd';
import { useState } from 'react';
import Markdown from 'react-markdown';
import { Link, useParams } from 'react-router';
import { answered, api, done, queries, type Schemas, useMay } from '../../api/client';
import { Act } from '../../parts/Act';
import { ProjectWords } from '../../parts/ProjectWords';
import { Sheet } from '../../parts/Sheet';
import { say, wordsOf } from '../../parts/said';
import { Trouble } from '../../parts/Trouble';
import { exact } from '../../parts/times';
import { bytes } from '../../parts/words';
import { type Release, State } from './Releases';

type Page = Schemas['ReleasePage'];

export default function OneRelease() {
  const { project = '', version = '' } = useParams();
  const path = { project, version };
  const { data, error } = useQuery({
    queryKey: ['release', project, version],
    queryFn: () => answered(api.GET('/api/v1/projects/{project}/releases/{version}', { params: { path } })),
    refetchInterval: 10_000,
  });
  return (
    <>
      <ProjectWords project={project} at="releases" />
      {error && <Trouble error={error} />}
      {data && <Whole page={data} />}
    </>
  );
}

function Whole({ page }: { page: Page }) {
  const one = page.release;
  return (
    <>
      <h2>
        {one.version}
        {one.title !== one.version && `: ${one.title}`}
      </h2>
      <p className="next">
        <State one={one} /> · commit <Link to={`/trace?thing=${one.commit}`}>{one.commit.slice(0, 12)}</Link> as tag{' '}
        {one.tag} · made by{' '}
        <Link to={`/runs/${one.run}/${one.job}`}>
          {one.run} {one.job}
        </Link>{' '}
        {exact(one.made_at)} ·{' '}
        {one.environments.length > 0 ? `in ${one.environments.join(', ')}` : 'in no environment now'}
        {one.told && ` · ${one.told}`}
      </p>
      {one.tag_names && (
        <p className="s-failed">
          Tag {one.tag} names commit {one.tag_names.slice(0, 12)} now. What was released stays what it was.
        </p>
      )}
      <Words key={`${page.edits.length}`} one={one} />
      <h2 className="apart">What is fetched</h2>
      <Assets one={one} />
      <h2 className="apart">What it rests on</h2>
      <Evidence page={page} />
      {page.edits.length > 1 && <Edits page={page} />}
    </>
  );
}

/** The notes, and what someone can do with them and the release. */
function Words({ one }: { one: Release }) {
  const path = { project: one.project, version: one.version };
  const [notes, setNotes] = useState<string>();
  const may = useMay('editor', one.project);
  const [told, setTold] = useState<string>();
  const keep = async () => {
    const at = '/api/v1/projects/{project}/releases/{version}' as const;
    try {
      await done(api.PUT(at, { params: { path }, body: { notes } }));
      setNotes(undefined);
      setTold(undefined);
      say({ words: `The notes of ${one.version} are kept.` });
    } catch (error) {
      setTold(wordsOf(error));
    }
    queries.invalidateQueries();
  };
  return (
    <>
      {notes === undefined ? (
        <div className="notes">{one.notes ? <Markdown>{one.notes}</Markdown> : <p className="soft">No notes.</p>}</div>
      ) : (
        <Input.TextArea
          aria-label="Notes, as Markdown"
          autoSize={{ minRows: 6, maxRows: 24 }}
          value={notes}
          onChange={(event) => setNotes(event.target.value)}
        />
      )}
      {may && (
        <div className="say later">
          {notes === undefined ? (
            <button type="button" className="act" onClick={() => setNotes(one.notes)}>
              Edit notes
            </button>
          ) : (
            <>
              <button type="button" className="act main" onClick={keep}>
                Keep notes
              </button>
              <button type="button" className="act" onClick={() => setNotes(undefined)}>
                Leave them
              </button>
            </>
          )}
          <Acts one={one} />
          <span role="status" className="s-failed">
            {told}
          </span>
        </div>
      )}
    </>
  );
}

/** Whether others should use it: said to everybody, and said back. */
function Acts({ one }: { one: Release }) {
  const params = { path: { project: one.project, version: one.version } };
  const publish = () => done(api.POST('/api/v1/projects/{project}/releases/{version}/publish', { params }));
  const withdraw = (reason: string) =>
    done(api.POST('/api/v1/projects/{project}/releases/{version}/withdraw', { params, body: { reason } }));
  return (
    <>
      {one.state !== 'published' && (
        <Act
          name="Publish"
          says={`Everybody reads that ${one.title} is to be used, here and at the forge; it can be withdrawn, with a reason.`}
          act={async () => {
            await publish();
            return { words: `${one.title} is published.` };
          }}
        />
      )}
      {one.state !== 'withdrawn' && (
        <Act
          name="Withdraw"
          says="Everybody reads that nobody should use it any more, and why; it stays where it is."
          fields={[{ key: 'reason', label: 'Why nobody should use it', needed: true, placeholder: 'it drifts' }]}
          act={async ({ reason }) => {
            await withdraw(reason ?? '');
            const undo = one.state === 'published' ? publish : undefined;
            return { words: `${one.title} is withdrawn.`, undo };
          }}
        />
      )}
    </>
  );
}

function Assets({ one }: { one: Release }) {
  if (one.assets.length === 0) return <p className="empty">Nothing: its job names no assets.</p>;
  return (
    <table className="sheet">
      <thead>
        <tr>
          <th>artifact</th>
          <th>files</th>
          <th>size</th>
          <th>digest</th>
          <th>
            <span className="hidden">fetch it</span>
          </th>
        </tr>
      </thead>
      <tbody>
        {one.assets.map((asset) => (
          <tr key={`${asset.job}/${asset.name}`}>
            <td>
              {asset.job}/{asset.name}
            </td>
            <td className="num">{asset.files}</td>
            <td className="num">{bytes(asset.bytes)}</td>
            <td className="code">
              <Link to={`/trace?thing=${asset.digest}`}>{asset.digest.slice(0, 23)}</Link>
            </td>
            <td className="next">
              <a href={`${asset.url}?form=zip`} aria-label={`Fetch ${asset.name}`}>
                Fetch
              </a>{' '}
              <a href={`${asset.url}/provenance`} aria-label={`Signed statement of ${asset.name}`}>
                Signed statement
              </a>
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

type Job = { job: string; state: string; runner: string | null; numbers: Record<string, number> };
type Put = { environment: string; number: number; run: string; outcome: string | null; approvals: { by: string }[] };

/** The document in short; whole below its digest. */
function Evidence({ page }: { page: Page }) {
  const { jobs = [], deployments = [] } = page.evidence as { jobs?: Job[]; deployments?: Put[] };
  const one = page.release;
  const whole = `/api/v1/projects/${one.project}/releases/${one.version}/evidence`;
  return (
    <>
      <p className="next">
        <a href={whole}>One document</a> <span className="code soft">{page.evidence_digest.slice(0, 23)}</span>
      </p>
      <Sheet heads={['job', 'state', 'on', 'numbers']}>
        {jobs.map((job) => (
          <tr key={job.job}>
            <td>{job.job}</td>
            <td className={`s-${job.state}`}>{job.state}</td>
            <td>{job.runner}</td>
            <td>
              {Object.entries(job.numbers)
                .map(([name, value]) => `${name} ${value}`)
                .join(', ')}
            </td>
          </tr>
        ))}
      </Sheet>
      {deployments.length > 0 && <Puts puts={deployments} project={one.project} />}
    </>
  );
}

/** Where it had been put when it was released. */
function Puts({ puts, project }: { puts: Put[]; project: string }) {
  return (
    <table className="sheet later">
      <thead>
        <tr>
          <th>environment</th>
          <th>outcome</th>
          <th>by</th>
          <th>approved by</th>
        </tr>
      </thead>
      <tbody>
        {puts.map((put) => (
          <tr key={`${put.environment} ${put.number}`}>
            <td>
              <Link to={`/projects/${project}/environments/${put.environment}`}>{put.environment}</Link>
            </td>
            <td>{put.outcome ?? 'goes on'}</td>
            <td>{put.run}</td>
            <td>{put.approvals.map((word) => word.by).join(', ')}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function Edits({ page }: { page: Page }) {
  return (
    <>
      <h2 className="apart">Earlier words</h2>
      {page.edits.slice(1).map((edit) => (
        <details key={edit.number}>
          <summary>
            {edit.number}: {exact(edit.at)} {edit.by ? `by ${edit.by}` : 'as it was made'}
          </summary>
          <div className="notes">
            <Markdown>{edit.notes}</Markdown>
          </div>
        </details>
      ))}
    </>
  );
}
