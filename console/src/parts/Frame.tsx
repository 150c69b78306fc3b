// The head line on every page: the mark, where I am (as links), the field that finds and does everything, slots in use,
// who I am and how I like to read. Keys are heard here.
import { useQuery } from '@tanstack/react-query';
import { Fragment, lazy, type ReactNode, Suspense, useEffect, useState } from 'react';
import { Link, useLocation, useParams } from 'react-router';
import { answered, api, queries, Refused, useMe } from '../api/client';
import { useAway, useLive } from '../api/live';
import type { Theme } from '../look/palette';
import { type Act, useActs, useKeys } from './acts';
import { useFocusOfPage } from './focus';
import { Mark } from './Mark';
import { Menu } from './Menu';
import { Middle } from './Middle';
import { pages, titleOf } from './pages';
import { openRow, stepRow } from './rows';
import { Said } from './Said';
import { signInFor } from './signing';
import { exact, setZone, useZone } from './times';
import { many } from './words';

const Palette = lazy(() => import('./Palette'));
const Keys = lazy(() => import('./Keys'));

export function Frame({
  path,
  theme,
  onTheme,
  children,
}: {
  path: string[];
  theme: Theme;
  onTheme: (theme: Theme) => void;
  children: ReactNode;
}) {
  useLive();
  useKeys();
  useFocusOfPage();
  useTitle();
  const [open, setOpen] = useState<'palette' | 'keys'>();
  // Fetched once the page stands: whoever types on at once must not wait for it.
  useEffect(() => {
    const timer = window.setTimeout(() => void import('./Palette'), 1_000);
    return () => window.clearTimeout(timer);
  }, []);
  const zone = useZone();
  const look = theme === 'light' ? 'dark' : 'light';
  const clock = zone === 'utc' ? 'local' : 'utc';
  const acts: Act[] = [
    { name: 'Search, or do something', key: '/', keyOnly: true, run: () => setOpen('palette') },
    { name: 'The same from within a field', key: 'Ctrl-K', keyOnly: true, run: () => setOpen('palette') },
    { name: 'Show the keys', key: '?', run: () => setOpen('keys') },
    { name: 'The next row of a list', key: 'j', keyOnly: true, run: () => stepRow(1) },
    { name: 'The row before', key: 'k', keyOnly: true, run: () => stepRow(-1) },
    { name: 'Open the row', key: 'o', keyOnly: true, run: openRow },
    { name: `Look: ${look}`, run: () => onTheme(look) },
    { name: clock === 'utc' ? 'Times in UTC' : 'Times in your own zone', run: () => setZone(clock) },
    { name: 'Sign out', run: leave },
  ];
  useActs('Everywhere', acts);
  return (
    <div className="frame">
      <a className="skip" href="#page">
        To the page
      </a>
      <header className="head">
        <Link className="mark" to="/" aria-label="Board">
          <Mark />
        </Link>
        <nav className="path" aria-label="Where you are">
          {path.length === 0 ? (
            <>
              <span className="when-wide">
                <Pages />
              </span>
              <span className="when-narrow">
                <Menu word="pages" label="Pages">
                  <Pages />
                </Menu>
              </span>
            </>
          ) : (
            <>
              <Link to="/">board</Link>
              {path.map((part, at) => (
                <Fragment key={path.slice(0, at + 1).join('/')}>
                  <span className="soft" aria-hidden="true">
                    /
                  </span>
                  <Link to={address(path.slice(0, at + 1))}>
                    <Middle name={part} />
                  </Link>
                </Fragment>
              ))}
            </>
          )}
        </nav>
        <button type="button" className="search" onClick={() => setOpen('palette')}>
          <span>Search or do</span> <kbd>/</kbd>
        </button>
        <Busy />
        <Who theme={theme} onTheme={onTheme} onKeys={() => setOpen('keys')} />
      </header>
      <Away />
      <main className="page" id="page" tabIndex={-1}>
        <Fragment key={zone}>{children}</Fragment>
      </main>
      <Said />
      <Suspense fallback={null}>
        {open === 'palette' && <Palette onClose={() => setOpen(undefined)} />}
        {open === 'keys' && <Keys onClose={() => setOpen(undefined)} />}
      </Suspense>
    </div>
  );
}

/** `tidegauge / 12 / test.unit` as an address. */
function address([project, run, job]: string[]): string {
  if (!run) return `/projects/${project}`;
  return job ? `/runs/${project}/${run}/${encodeURIComponent(job)}` : `/runs/${project}/${run}`;
}

/** A run tells its state in the tab as well, and does so itself. */
function useTitle() {
  const { pathname } = useLocation();
  const { project } = useParams();
  useEffect(() => {
    if (!pathname.startsWith('/runs/')) document.title = titleOf(pathname, project);
  }, [pathname, project]);
}

function Pages() {
  const { data } = useMe();
  return pages
    .filter((page) => !page.owner || data?.role === 'owner')
    .map((page) => (
      <Link key={page.to} to={page.to}>
        {page.name.toLowerCase()}
      </Link>
    ));
}

function Busy() {
  const { data } = useQuery({ queryKey: ['slots'], queryFn: () => answered(api.GET('/api/v1/slots')) });
  if (!data) return null;
  return (
    <Link to="/runners" className="soft num busy">
      {data.slots === 0 ? 'no runner connected' : `${data.busy} of ${many(data.slots, 'slot')} busy`}
    </Link>
  );
}

/** Said while the service cannot be reached: what stands on the page is what was known then. */
function Away() {
  const away = useAway();
  const zone = useZone();
  if (away === undefined) return <div role="status" />;
  return (
    <div role="status" className="away">
      The service cannot be reached since {exact(new Date(away).toISOString(), zone)}. This page shows what was known
      then, and goes on by itself.
    </div>
  );
}

async function leave() {
  await api.DELETE('/api/v1/session');
  queries.clear();
  window.location.assign('/sign-in');
}

function Who({ theme, onTheme, onKeys }: { theme: Theme; onTheme: (theme: Theme) => void; onKeys: () => void }) {
  const { data, error } = useMe();
  const zone = useZone();
  const { pathname, search } = useLocation();
  // What is public is read without signing in.
  if (error instanceof Refused && error.status === 401) return <Link to={signInFor(pathname + search)}>Sign in</Link>;
  return (
    <Menu word={data?.name ?? 'you'} label={`You: ${data?.name ?? ''}`}>
      <Link to="/needs">Needs you</Link>
      <Link to="/notices">Your notices</Link>
      <Link to="/people?view=yours">Your tokens and sessions</Link>
      <Choice
        title="Look"
        of={[
          ['light', 'Light'],
          ['dark', 'Dark'],
        ]}
        is={theme}
        onChoose={onTheme}
      />
      <Choice
        title="Times"
        of={[
          ['local', Intl.DateTimeFormat().resolvedOptions().timeZone ?? 'Your zone'],
          ['utc', 'UTC'],
        ]}
        is={zone}
        onChoose={setZone}
      />
      <button type="button" className="link" onClick={onKeys}>
        Keys
      </button>
      <button type="button" className="link" onClick={leave}>
        Sign out
      </button>
    </Menu>
  );
}

function Choice<T extends string>({
  title,
  of,
  is,
  onChoose,
}: {
  title: string;
  of: [T, string][];
  is: T;
  onChoose: (one: T) => void;
}) {
  return (
    <fieldset className="choice">
      <legend className="soft">{title}</legend>
      <div className="words">
        {of.map(([key, word]) => (
          <button key={key} type="button" aria-pressed={key === is} onClick={() => onChoose(key)}>
            {word}
          </button>
        ))}
      </div>
    </fieldset>
  );
}
