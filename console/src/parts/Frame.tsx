// The head line on every page: the mark, where I am (as links, and as a field to type into), runners in use, who I am.
import { useQuery } from '@tanstack/react-query';
import { Button, Modal } from 'antd';
import { Fragment, type ReactNode, useEffect, useRef, useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { answered, api, queries, useLive, useMe } from '../api/client';
import type { Theme } from '../look/palette';

const keys = [
  ['/ or Ctrl-K', 'go to a project, run or job: tidegauge / 12 / test.unit'],
  ['?', 'these keys'],
  ['Tab, Enter', 'move and choose'],
  ['Esc', 'leave a field or dialog'],
];

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
  const [help, setHelp] = useState(false);
  const field = useRef<HTMLInputElement>(null);
  useKeys(
    () => field.current?.focus(),
    () => setHelp(true),
  );
  return (
    <div className="frame">
      <header className="head">
        <Link className="mark" to="/" aria-label="Board">
          <Mark />
        </Link>
        <nav className="path" aria-label="Where you are">
          <Link to="/">board</Link>
          {path.length === 0 && <Link to="/runners">runners</Link>}
          {path.length === 0 && <Link to="/pools">pools</Link>}
          {path.length === 0 && <Link to="/insight">insight</Link>}
          {path.length === 0 && <Link to="/trace">trace</Link>}
          {path.length === 0 && <Link to="/people">people</Link>}
          {path.length === 0 && <Journal />}
          {path.map((part, at) => (
            <Fragment key={path.slice(0, at + 1).join('/')}>
              <span className="soft">/</span>
              <Link to={address(path.slice(0, at + 1))}>{part}</Link>
            </Fragment>
          ))}
        </nav>
        <GoTo field={field} />
        <Busy />
        <Button size="small" type="text" onClick={() => onTheme(theme === 'light' ? 'dark' : 'light')}>
          {theme === 'light' ? 'Dark' : 'Light'}
        </Button>
        <Who />
      </header>
      <main className="page">{children}</main>
      <Modal open={help} title="Keys" footer={null} onCancel={() => setHelp(false)}>
        <table className="sheet">
          <tbody>
            {keys.map(([key, what]) => (
              <tr key={key}>
                <td>
                  <kbd>{key}</kbd>
                </td>
                <td>{what}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Modal>
    </div>
  );
}

export function Mark() {
  return (
    <svg width="24" height="24" viewBox="0 0 24 24" fill="currentColor" aria-hidden="true">
      <path d="M2 3h9v3H2zM6 8h9v3H6zM10 13h9v3h-9zM14 18h8v3h-8z" />
    </svg>
  );
}

/** `tidegauge / 12 / test.unit` as an address. */
function address([project, run, job]: string[]): string {
  if (!run) return `/projects/${project}`;
  return job ? `/runs/${project}/${run}/${job}` : `/runs/${project}/${run}`;
}

function GoTo({ field }: { field: React.RefObject<HTMLInputElement | null> }) {
  const navigate = useNavigate();
  const [text, setText] = useState('');
  const go = (event: React.FormEvent) => {
    event.preventDefault();
    const parts = text
      .split('/')
      .map((part) => part.trim())
      .filter(Boolean);
    if (parts.length > 0) navigate(address(parts));
    setText('');
    field.current?.blur();
  };
  return (
    <form className="path" style={{ flex: 'none' }} onSubmit={go}>
      <input
        ref={field}
        aria-label="Go to project / run / job"
        placeholder="go to: tidegauge / 12    ( / )"
        value={text}
        onChange={(event) => setText(event.target.value)}
        onKeyDown={(event) => event.key === 'Escape' && field.current?.blur()}
      />
    </form>
  );
}

function Busy() {
  const { data } = useQuery({ queryKey: ['slots'], queryFn: () => answered(api.GET('/api/v1/slots')) });
  if (!data) return null;
  const words = data.slots === 0 ? 'no runner connected' : `${data.busy} of ${data.slots} slots busy`;
  return (
    <Link to="/runners" className="soft num">
      {words}
    </Link>
  );
}

/** For owners: nobody else may read it as a whole. */
function Journal() {
  const { data } = useMe();
  return data?.role === 'owner' ? <Link to="/journal">journal</Link> : null;
}

function Who() {
  const { data } = useMe();
  const leave = async () => {
    await api.DELETE('/api/v1/session');
    queries.clear();
    window.location.assign('/sign-in');
  };
  return (
    <span className="who">
      <Link to="/people?view=yours" title="Your tokens and sessions">
        {data?.name ?? ''}
      </Link>
      <Button size="small" type="text" onClick={leave}>
        Sign out
      </Button>
    </span>
  );
}

function useKeys(goTo: () => void, help: () => void) {
  useEffect(() => {
    const press = (event: KeyboardEvent) => {
      const typing =
        event.target instanceof HTMLElement &&
        (['INPUT', 'TEXTAREA'].includes(event.target.tagName) || event.target.isContentEditable);
      if ((event.key === 'k' && event.ctrlKey) || (event.key === '/' && !typing)) {
        event.preventDefault();
        goTo();
      } else if (event.key === '?' && !typing) {
        help();
      }
    };
    window.addEventListener('keydown', press);
    return () => window.removeEventListener('keydown', press);
  });
}
