// What someone has said of a project that is not there yet, and what of it is still missing.
import type { Schemas } from '../../api/client';

export type Look = Schemas['LookView'];

export interface Prepared {
  git: string;
  /** What was typed; while nothing was, it comes from the address. */
  name: string;
  user: string;
  password: string;
  profile: string;
  forgeUrl: string;
  repository: string;
  token: string;
  poll: 'usual' | 'minute' | 'never';
}

export const nothing: Prepared = {
  git: '',
  name: '',
  user: '',
  password: '',
  profile: 'plain',
  forgeUrl: '',
  repository: '',
  token: '',
  poll: 'usual',
};

/** The forges' names to choose from; a git server without one comes first. */
export const forges = (known: { name: string }[] | undefined) => [
  'plain',
  ...(known ?? []).map((one) => one.name).filter((name) => name !== 'plain'),
];

/** How an address is reached: that decides what it is read with. */
export function wayOf(text: string): 'http' | 'ssh' | 'disk' | undefined {
  const git = text.trim();
  if (/^https?:\/\/./.test(git)) return 'http';
  if (/^(ssh:\/\/.|[\w.-]+@[\w.-]+:.|[\w.-]+:[^/\\].*)/.test(git)) return 'ssh';
  if (/^(\/.|file:\/\/\/.)/.test(git)) return 'disk';
  return undefined;
}

/** The last part of an address as a project's name: `https://git.example/tide/Gauge.git` is `gauge`. */
export function nameOf(git: string): string {
  const last =
    git
      .replace(/\/+$/, '')
      .replace(/\.git$/, '')
      .split(/[/:]/)
      .at(-1) ?? '';
  return last
    .toLowerCase()
    .replace(/[^a-z0-9_-]+/g, '-')
    .replace(/^-+|-+$/g, '')
    .slice(0, 64);
}

export const called = (said: Prepared) => said.name || nameOf(said.git);

/** The question to the service; a password goes along only where there is one. */
export function asked(said: Prepared, look: string | undefined): Schemas['NewLook'] {
  const login = said.user && said.password ? { user: said.user, password: said.password } : undefined;
  return { look, name: called(said), git_url: said.git.trim(), login, profile: said.profile };
}

/** What is made of it. */
export function project(said: Prepared, look: Look | undefined): Schemas['NewProject'] {
  const { look: id, login, name, git_url } = asked(said, look?.look);
  const forge =
    said.profile === 'plain'
      ? undefined
      : {
          profile: said.profile,
          url: said.forgeUrl.trim(),
          repository: said.repository.trim() || name,
          token: said.token || undefined,
        };
  return { name, git_url, login, forge, look: id };
}

/** Milliseconds, as the service takes it; nothing: as its forge needs. */
export const pollOf = (poll: Prepared['poll']) => ({ usual: null, minute: 60_000, never: 0 })[poll];

/** All that will be, a line each; nothing is there before it is confirmed. */
export function review(said: Prepared, look: Look): [string, string][] {
  const main = look.found?.main_branch;
  const way = wayOf(said.git);
  const read = {
    http: said.user ? `as ${said.user}, with the password that was given` : 'by everybody',
    ssh: 'with a key of its own',
    disk: 'from the disk of this machine',
  };
  const polls = {
    usual: 'as its hooks and forge need',
    minute: 'every minute',
    never: 'never: pushes are told by hooks alone',
  };
  const files = look.found?.pipelines ?? [];
  const what =
    files.length > 0 ? files.map((file) => file.path).join(', ') : 'none yet: Draft opens with one to start from';
  return [
    ['Name', called(said)],
    ['Repository', said.git.trim()],
    ['Read', way ? read[way] : ''],
    [
      'Main branch',
      main ? `${main}, or whichever the repository names later` : 'as the repository says once it has one',
    ],
    ['Pipelines', what],
    ['Verdicts', said.profile === 'plain' ? 'as git notes' : `to ${said.forgeUrl} (${said.profile}), and as git notes`],
    ['Looked at', polls[said.poll]],
    ['Seen by', 'all who are signed in; Settings change that'],
  ];
}
