// Add a project: its address, what it is read with, whether it is reached, what is there, how its pushes are told, and all
// of it once more. Nothing is created before the last press.
import { useQuery } from '@tanstack/react-query';
import { Button } from 'antd';
import { type ReactNode, useState } from 'react';
import { useNavigate, useSearchParams } from 'react-router';
import { answered, api, done, useMay } from '../../api/client';
import { Copy } from '../../parts/Copy';
import { say, wordsOf } from '../../parts/said';
import { many } from '../../parts/words';
import { Find } from './Find';
import { Heard } from './Heard';
import { asked, called, forges, type Look, nothing, type Prepared, pollOf, project, review, wayOf } from './prepared';
import './add.css';

export default function Add() {
  const owner = useMay('owner');
  return (
    <>
      <h1>Add a project</h1>
      {owner ? <Steps /> : <p className="empty">Owners of the service add projects; ask one of them.</p>}
    </>
  );
}

type Put = (change: Partial<Prepared>) => void;

/** What was said: what is no secret stands in the address. */
function useSaid(): [Prepared, Put] {
  const [search, setSearch] = useSearchParams();
  const [said, setSaid] = useState<Prepared>({
    ...nothing,
    git: search.get('git') ?? '',
    name: search.get('name') ?? '',
  });
  const put: Put = (change) => {
    const next = { ...said, ...change };
    setSaid(next);
    const shown = Object.entries({ git: next.git, name: next.name }).filter(([, value]) => value !== '');
    setSearch(Object.fromEntries(shown), { replace: true });
  };
  return [said, put];
}

/** What the service found; it remembers the look while this page is open, and over a reload. */
function useLook() {
  const [look, setLook] = useState<Look>();
  const [wrong, setWrong] = useState<string>();
  const [busy, setBusy] = useState(false);
  const [at, setAt] = useState('');
  const ask = async (said: Prepared) => {
    const known = look?.look ?? sessionStorage.getItem('look') ?? undefined;
    const call = (id: string | undefined) => answered(api.POST('/api/v1/looks', { body: asked(said, id) }));
    setBusy(true);
    setWrong(undefined);
    try {
      // One that is over is begun anew: the key and the secret are others then.
      const found = await call(known).catch((error) =>
        error.status === 404 ? call(undefined) : Promise.reject(error),
      );
      sessionStorage.setItem('look', found.look);
      setLook(found);
      setAt(about(said));
    } catch (error) {
      setWrong(wordsOf(error));
      setLook(undefined);
    }
    setBusy(false);
  };
  return { look, wrong, busy, at, ask };
}

/** What the look was asked about: deliveries go to the name, and are read by the profile. */
const about = (said: Prepared) => JSON.stringify([said.git.trim(), called(said), said.profile]);

function Steps() {
  const [said, put] = useSaid();
  const { look, wrong, busy, at, ask } = useLook();
  const way = wayOf(said.git);
  const found = look?.found ?? undefined;
  const stale = look !== undefined && at !== about(said);
  return (
    <div className="add">
      <form
        onSubmit={(event) => {
          event.preventDefault();
          void ask(said);
        }}
      >
        <Step number={1} title="Repository">
          <Line label="Address" id="add-git" says="anything that git clone takes">
            <input
              id="add-git"
              className="field code"
              placeholder="https://git.example/tide/gauge.git"
              value={said.git}
              onChange={(event) => put({ git: event.target.value })}
            />
          </Line>
          <Find said={said} put={put} />
          <Line label="Name" id="add-name" says={look?.name_trouble ?? 'lower-case letters, digits, - and _'}>
            <input
              id="add-name"
              className="field"
              placeholder={called(said)}
              value={said.name}
              onChange={(event) => put({ name: event.target.value })}
            />
          </Line>
        </Step>
        <Step number={2} title="What it is read with">
          <Credentials way={way} said={said} put={put} look={look} />
        </Step>
        <Step number={3} title="Is it reached?">
          <p>
            <Button type={found && !stale ? 'default' : 'primary'} htmlType="submit" loading={busy} disabled={!way}>
              {look ? 'Look again' : 'Look'}
            </Button>{' '}
            <span role="status">{reached(look, wrong, stale)}</span>
          </p>
          {(look?.hosts ?? []).map((host) => (
            <p key={`${host.host} ${host.kind}`} className="soft">
              The server {host.host} has the key <span className="code">{host.fingerprint}</span> ({host.kind}); no
              other will be taken for it.
            </p>
          ))}
        </Step>
      </form>
      {look && found && (
        <>
          <Step number={4} title="What is there">
            <There found={found} />
          </Step>
          <Step number={5} title="How its pushes are told">
            <Told
              said={said}
              put={put}
              look={look}
              onProfile={(profile) => {
                put({ profile });
                void ask({ ...said, profile });
              }}
            />
          </Step>
          <Step number={6} title="All of it">
            <Confirm said={said} look={look} stale={stale} />
          </Step>
        </>
      )}
    </div>
  );
}

function reached(look: Look | undefined, wrong: string | undefined, stale: boolean): ReactNode {
  if (wrong) return <span className="s-failed">{wrong}</span>;
  if (!look) return <span className="soft">nothing is created by looking</span>;
  if (stale) return <span className="soft">address, name or forge are others now</span>;
  if (look.trouble) return <span className="s-failed">{look.trouble}</span>;
  return <span className="s-passed">It is reached.</span>;
}

function Step({ number, title, children }: { number: number; title: string; children: ReactNode }) {
  return (
    <section>
      <h2>
        <span className="soft num">{number}</span> {title}
      </h2>
      {children}
    </section>
  );
}

function Line({ label, id, says, children }: { label: string; id: string; says?: string; children: ReactNode }) {
  return (
    <div className="add-line">
      <label htmlFor={id}>{label}</label>
      {children}
      <span className="soft">{says}</span>
    </div>
  );
}

function Credentials(props: { way: ReturnType<typeof wayOf>; said: Prepared; put: Put; look: Look | undefined }) {
  const { way, said, put, look } = props;
  if (way === undefined) return <p className="soft">The address tells: a user and a password, or a key.</p>;
  if (way === 'disk') return <p className="soft">Nothing: it lies on a disk of the service's own machine.</p>;
  if (way === 'ssh')
    return look?.key ? (
      <>
        <p>Give this key to the server, as one that may read the repository; then look again.</p>
        <Copy label="The public key" is={look.key} />
      </>
    ) : (
      <p className="soft">A key of its own is made when you look; its public half is shown here.</p>
    );
  return (
    <>
      <Line label="User" id="add-user" says="empty where everybody may read it">
        <input
          id="add-user"
          className="field"
          autoComplete="off"
          value={said.user}
          onChange={(event) => put({ user: event.target.value })}
        />
      </Line>
      <Line label="Password or token" id="add-password" says="it goes to this server alone, and is never shown again">
        <input
          id="add-password"
          className="field"
          type="password"
          autoComplete="new-password"
          value={said.password}
          onChange={(event) => put({ password: event.target.value })}
        />
      </Line>
    </>
  );
}

function There({ found }: { found: NonNullable<Look['found']> }) {
  const more = found.branches_all - found.branches.length;
  return (
    <>
      <p>
        {found.main_branch ? (
          <>
            Its main branch is <b>{found.main_branch}</b>.
          </>
        ) : (
          'It is empty, or names no main branch: what is pushed first makes one.'
        )}{' '}
        <span className="soft" title={found.branches.join(', ')}>
          {many(found.branches_all, 'branch', 'branches')}, {many(found.tags_all, 'tag')}
          {more > 0 && `; the first ${found.branches.length} on hover`}
        </span>
      </p>
      {found.pipelines.map((file) => (
        <p key={file.path}>
          <span className="code">{file.path}</span>{' '}
          {file.errors === 0 ? (
            <span className="s-passed">the pipeline {file.name}, without mistakes</span>
          ) : (
            <span className="s-failed">
              the pipeline {file.name}, with {many(file.errors, 'mistake')}: Draft shows them in the file
            </span>
          )}
        </p>
      ))}
      {found.first_file && (
        <>
          <p>
            It has no pipeline.{' '}
            {found.first_file.found.length > 0
              ? `It looks like ${found.first_file.found.join(', and ')}; Draft will open with this to start from:`
              : 'Nothing that plainly builds or tests was found; Draft will open with this to start from:'}
          </p>
          {/* biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls is reached by the keyboard */}
          <pre className="source add-file" tabIndex={0}>
            {found.first_file.text}
          </pre>
          {found.first_file.unsure.map((line) => (
            <p key={line} className="s-gated">
              Not sure: {line}
            </p>
          ))}
        </>
      )}
    </>
  );
}

function Told(props: { said: Prepared; put: Put; look: Look; onProfile: (profile: string) => void }) {
  const { said, put, look, onProfile } = props;
  const { data: profiles } = useQuery({
    queryKey: ['profiles'],
    queryFn: () => answered(api.GET('/api/v1/profiles')),
  });
  return (
    <>
      <Line label="Forge" id="add-profile" says="whose dialect its webhooks speak; plain: any git server">
        <select
          id="add-profile"
          className="field"
          value={said.profile}
          onChange={(event) => onProfile(event.target.value)}
        >
          {forges(profiles).map((name) => (
            <option key={name}>{name}</option>
          ))}
        </select>
      </Line>
      {said.profile !== 'plain' &&
        (
          [
            ['forgeUrl', 'Its address', 'https://git.example', 'where verdicts are sent'],
            ['repository', 'What it calls it', called(said), 'such as tide/gauge'],
            ['token', 'Token', '', 'what lets verdicts in; never shown again'],
          ] as const
        ).map(([key, label, placeholder, says]) => (
          <Line key={key} label={label} id={`add-${key}`} says={says}>
            <input
              id={`add-${key}`}
              className="field"
              type={key === 'token' ? 'password' : 'text'}
              autoComplete="off"
              placeholder={placeholder}
              value={said[key]}
              onChange={(event) => put({ [key]: event.target.value })}
            />
          </Line>
        ))}
      <p>
        Put these two into the repository's webhooks there, and let it send one now: it is read, and begins nothing.
      </p>
      <Copy label="Webhook address" is={look.hook_url} />
      <Copy label="Webhook secret" is={look.hook_secret} />
      <Heard look={look.look} said={said} />
      <Line label="Looked at" id="add-poll" says="so that what no hook tells is found, too">
        <select
          id="add-poll"
          className="field"
          value={said.poll}
          onChange={(event) => put({ poll: event.target.value as Prepared['poll'] })}
        >
          <option value="usual">as its hooks and forge need</option>
          <option value="minute">every minute</option>
          <option value="never">never</option>
        </select>
      </Line>
    </>
  );
}

function Confirm({ said, look, stale }: { said: Prepared; look: Look; stale: boolean }) {
  const navigate = useNavigate();
  const [wrong, setWrong] = useState<string>();
  const add = async () => {
    setWrong(undefined);
    try {
      const made = await answered(api.POST('/api/v1/projects', { body: project(said, look) }));
      sessionStorage.removeItem('look');
      const params = { path: { name: made.name } };
      if (said.poll !== 'usual')
        await done(api.PUT('/api/v1/projects/{name}/poll', { params, body: { poll_ms: pollOf(said.poll) } }));
      say({
        words: `${made.name} is added.${made.remark ? ` ${made.remark}` : ''}`,
        undo: () => done(api.DELETE('/api/v1/projects/{name}', { params })),
      });
      navigate(look.found?.pipelines.length === 0 ? `/projects/${made.name}/draft/main` : `/projects/${made.name}`);
    } catch (error) {
      setWrong(wordsOf(error));
    }
  };
  return (
    <>
      <dl className="told">
        {review(said, look).map(([word, is]) => (
          <div key={word}>
            <dt>{word}</dt>
            <dd>{is}</dd>
          </div>
        ))}
      </dl>
      <p>
        <Button type="primary" onClick={() => void add()} disabled={stale || !!look.name_trouble}>
          Add {called(said)}
        </Button>{' '}
        {look.name_trouble && <span className="s-failed">{look.name_trouble}</span>}
        {wrong && (
          <span className="s-failed" role="alert">
            {wrong}
          </span>
        )}
      </p>
    </>
  );
}
