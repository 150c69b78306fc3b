// The pages of the console, as words: those of the service, and those of a project. The head line, the words of a project
// and the palette all read them here.

export interface Page {
  name: string;
  to: string;
  /** Only for owners of the service. */
  owner?: boolean;
}

export const pages: Page[] = [
  { name: 'Board', to: '/' },
  { name: 'Runners', to: '/runners' },
  { name: 'Pools', to: '/pools' },
  { name: 'Insight', to: '/insight' },
  { name: 'Trace', to: '/trace' },
  { name: 'People', to: '/people' },
  { name: 'Journal', to: '/journal', owner: true },
];

/** What stands in the palette besides. */
export const more: Page[] = [
  { name: 'Needs you', to: '/needs' },
  { name: 'Add a project', to: '/add', owner: true },
  { name: 'Your notices', to: '/notices' },
  { name: 'Your tokens and sessions', to: '/people?view=yours' },
  { name: 'Groups', to: '/people?view=groups' },
  { name: 'Roles', to: '/people?view=roles' },
];

export const projectPages = (project: string): (Page & { key: string })[] => {
  const at = (key: string, name: string, path = `/${key}`) => ({ key, name, to: `/projects/${project}${path}` });
  return [
    at('runs', 'Runs', ''),
    at('start', 'Start'),
    at('draft', 'Draft'),
    at('proposals', 'Proposals'),
    at('landing', 'Landing'),
    at('environments', 'Environments'),
    at('releases', 'Releases'),
    at('insight', 'Insight'),
    at('numbers', 'Numbers'),
    at('flaky', 'Flaky tests'),
    at('caches', 'Caches'),
    at('deliveries', 'Deliveries'),
    at('journal', 'Journal'),
    at('settings', 'Settings'),
  ];
};

/** `tidegauge / 12 / test.unit` as an address; nothing where it is no path. */
export function addressOf(text: string): string | undefined {
  const [project, run, job, ...rest] = text.split('/').map((part) => part.trim());
  if (!project || rest.length > 0 || /\s/.test(project)) return undefined;
  if (!run) return `/projects/${encodeURIComponent(project)}`;
  if (!/^\d+$/.test(run)) return undefined;
  const begin = `/runs/${encodeURIComponent(project)}/${run}`;
  return job ? `${begin}/${encodeURIComponent(job)}` : begin;
}

/** What the browser's tab says of a page, by its address; a run's own says more. */
export function titleOf(pathname: string, project: string | undefined): string {
  const all = [
    ...(project ? projectPages(project).map((page) => ({ ...page, name: `${project}: ${page.name}` })) : []),
    ...pages,
    ...more,
  ];
  const page = all
    .map((one) => ({ name: one.name, path: one.to.split('?')[0] ?? '' }))
    .filter((one) => pathname === one.path || (one.path !== '/' && pathname.startsWith(`${one.path}/`)))
    .sort((a, b) => b.path.length - a.path.length)[0];
  const beyond = page ? decodeURIComponent(pathname.slice(page.path.length).replace(/^\//, '')) : '';
  const name = page ? [page.name, beyond].filter(Boolean).join(' ') : decodeURIComponent(pathname.replace(/^\//, ''));
  return `${name} · Ordotaxis`;
}
