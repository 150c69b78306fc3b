// Where a project's repository is, which branch is its main one, and what it is read with.
import { useQuery } from '@tanstack/react-query';
import { answered, api, done } from '../../api/client';
import { Act } from '../../parts/Act';
import { Copy } from '../../parts/Copy';
import { Trouble } from '../../parts/Trouble';
import type { Of } from './of';
import { useProject } from './useProject';

export default function Repository({ project, may }: Of) {
  const path = { params: { path: { project } } };
  const { data: about } = useProject(project);
  const { data, error } = useQuery({
    queryKey: ['repository', project],
    queryFn: () => answered(api.GET('/api/v1/projects/{project}/repository', path)),
  });
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  return (
    <>
      {about?.trouble && <p className="notice s-failed">{about.trouble}</p>}
      <dl className="told">
        <dt>Address</dt>
        <dd className="code">{data.address}</dd>
        <dt>Main branch</dt>
        <dd>
          {data.main_branch} <span className="soft">{data.main_follows && 'as the repository itself names it'}</span>{' '}
          {may && <MainBranch project={project} is={data.main_branch} follows={data.main_follows} />}
        </dd>
        <dt>Users and passwords</dt>
        <dd>
          {data.logins.length === 0 && <p className="soft">None: by HTTP it is read as everybody may.</p>}
          {data.logins.map((login) => (
            <p key={login.origin}>
              <span className="code">{login.origin}</span> as {login.user}{' '}
              {may && (
                <Act
                  name="Remove"
                  label={`Remove the password for ${login.origin}`}
                  plain
                  says={`${login.origin} is read as everybody may from now on; the password is gone for good.`}
                  act={async () => {
                    const params = { path: { project }, query: { origin: login.origin } };
                    await done(api.DELETE('/api/v1/projects/{project}/repository/login', { params }));
                    return { words: `The password for ${login.origin} is removed.` };
                  }}
                />
              )}
            </p>
          ))}
          {may && <Login project={project} address={data.address} />}
        </dd>
        <dt>Key</dt>
        <dd>
          {data.key ? (
            <Copy label="The public key" is={data.key} />
          ) : (
            <p className="soft">None: by SSH it cannot be read.</p>
          )}
          {may && <Key project={project} there={data.key != null} />}
        </dd>
        <dt>Servers met by SSH</dt>
        <dd>
          {data.hosts.length === 0 && <p className="soft">None yet: the first key that is met is pinned.</p>}
          {data.hosts.map((host) => (
            <p key={`${host.host} ${host.kind}`}>
              {host.host} <span className="code soft">{host.fingerprint}</span> {host.kind}
            </p>
          ))}
          {may && data.hosts.length > 0 && (
            <Act
              name="Forget them"
              says="The key that is met next is pinned anew, whichever it is: only after the server's people said that they changed it."
              act={async () => {
                await done(api.DELETE('/api/v1/projects/{project}/repository/hosts', path));
                return { words: 'The servers are forgotten.' };
              }}
            />
          )}
        </dd>
      </dl>
    </>
  );
}

function MainBranch({ project, is, follows }: { project: string; is: string; follows: boolean }) {
  const set = (branch: string | null) =>
    answered(
      api.PUT('/api/v1/projects/{project}/repository/main-branch', { params: { path: { project } }, body: { branch } }),
    );
  return (
    <Act
      name="Change"
      label="Change the main branch"
      says="Its rules and schedules are read from there from now on, and the board shows its verdict."
      fields={[
        { key: 'branch', label: 'Branch', is: follows ? '' : is, placeholder: 'empty: as the repository names it' },
      ]}
      act={async ({ branch }) => {
        const now = await set(branch?.trim() || null);
        return { words: `The main branch is ${now.main_branch}.`, undo: () => set(follows ? null : is) };
      }}
    />
  );
}

function Login({ project, address }: { project: string; address: string }) {
  return (
    <Act
      name="Set a password"
      says="The repository, or a submodule's server, is read with it from now on; it goes to that server alone and is never shown again."
      fields={[
        { key: 'origin', label: 'Server', placeholder: `empty: that of ${address}` },
        { key: 'user', label: 'User', needed: true },
        { key: 'password', label: 'Password or token', needed: true, secret: true },
      ]}
      act={async ({ origin, user = '', password = '' }) => {
        const body = { origin: origin?.trim() || null, user, password };
        await done(api.PUT('/api/v1/projects/{project}/repository/login', { params: { path: { project } }, body }));
        return { words: 'The password is set.' };
      }}
    />
  );
}

function Key({ project, there }: { project: string; there: boolean }) {
  const path = { params: { path: { project } } };
  if (there)
    return (
      <Act
        name="Remove the key"
        says="By SSH the repository cannot be read any more; another key has to be made and given to its server anew."
        act={async () => {
          await done(api.DELETE('/api/v1/projects/{project}/repository/key', path));
          return { words: 'The key is removed.' };
        }}
      />
    );
  return (
    <Act
      name="Make a key"
      atOnce
      says="Its public half is shown here, for the repository's server; the other half never leaves the service."
      act={async () => {
        await done(api.POST('/api/v1/projects/{project}/repository/key', path));
        const undo = () => done(api.DELETE('/api/v1/projects/{project}/repository/key', path));
        return { words: 'A key is made: give its public half to the server.', undo };
      }}
    />
  );
}
