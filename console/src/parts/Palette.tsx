// One field for everything: what can be done here, the pages, and whatever the service finds by the words: projects, runs,
// jobs, tests, commits, people. A path is gone to as it is typed: tidegauge / 12 / test.unit.
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useEffect, useId, useMemo, useRef, useState } from 'react';
import { useNavigate, useParams } from 'react-router';
import { answered, api, type Schemas, useMe } from '../api/client';
import { allActs } from './acts';
import { Dialog } from './Dialog';
import { Middle } from './Middle';
import { addressOf, more, pages, projectPages } from './pages';
import { best } from './sought';

interface Entry {
  id: string;
  name: string;
  about?: string;
  key?: string;
  go: () => void;
}
interface Group {
  title: string;
  entries: Entry[];
}

const titles: Record<Schemas['PlaceKind'], string> = {
  project: 'Projects',
  run: 'Runs',
  job: 'Jobs',
  test: 'Tests',
  commit: 'Commits',
  person: 'People',
};
/** How long typing pauses before the service is asked, in milliseconds. */
const PAUSE = 120;
/** How many of a group are shown before anything is typed, and then. */
const MOST = 8;

export default function Palette({ onClose }: { onClose: () => void }) {
  const [words, setWords] = useState('');
  const [at, setAt] = useState(0);
  const groups = useGroups(words, onClose);
  const entries = groups.flatMap((group) => group.entries);
  const chosen = entries[Math.min(at, entries.length - 1)];
  const list = useId();
  const box = useRef<HTMLDivElement>(null);
  useEffect(() => {
    if (chosen) document.getElementById(`${list}-${chosen.id}`)?.scrollIntoView({ block: 'nearest' });
  }, [chosen, list]);
  const press = (event: React.KeyboardEvent) => {
    const by = { ArrowDown: 1, ArrowUp: -1 }[event.key];
    if (by !== undefined) setAt((now) => (Math.min(now, entries.length - 1) + by + entries.length) % entries.length);
    else if (event.key === 'Enter') chosen?.go();
    else return;
    event.preventDefault();
  };
  return (
    <Dialog label="Search, or do something" className="palette" onClose={onClose}>
      <input
        role="combobox"
        aria-expanded="true"
        aria-controls={list}
        aria-activedescendant={chosen && `${list}-${chosen.id}`}
        aria-label="Search, or do something"
        placeholder="a page, a project, tidegauge / 12, a job, a test, a commit, something to do"
        value={words}
        onChange={(event) => {
          setWords(event.target.value);
          setAt(0);
        }}
        onKeyDown={press}
        autoFocus
      />
      <div className="palette-list" id={list} role="listbox" aria-label="What was found" ref={box}>
        {groups.map((group) => (
          // biome-ignore lint/a11y/useSemanticElements: options stand in groups of a listbox
          <div key={group.title} role="group" aria-label={group.title}>
            <p className="palette-title" aria-hidden="true">
              {group.title}
            </p>
            {group.entries.map((entry) => (
              // biome-ignore lint/a11y/useKeyWithClickEvents lint/a11y/useFocusableInteractive: the field above has the focus and hears the keys
              <div
                key={entry.id}
                id={`${list}-${entry.id}`}
                role="option"
                aria-selected={entry === chosen}
                onClick={entry.go}
              >
                <Middle name={entry.name} />
                {entry.about && <span className="soft cut">{entry.about}</span>}
                {entry.key && <kbd>{entry.key}</kbd>}
              </div>
            ))}
          </div>
        ))}
        {entries.length === 0 && <p className="soft">Nothing here is called so.</p>}
      </div>
    </Dialog>
  );
}

function useGroups(words: string, onClose: () => void): Group[] {
  const navigate = useNavigate();
  const { project } = useParams();
  const { data: me } = useMe();
  const found = useFound(words, project);
  // What can be done here is what could when the palette was opened: its own keys are not part of it.
  const here = useMemo(() => allActs(), []);
  const go = (to: string) => () => {
    onClose();
    navigate(to);
  };
  const ofPages = [
    ...(project ? projectPages(project).map((page) => ({ ...page, name: `${project}: ${page.name}` })) : []),
  ];
  const known = [...ofPages, ...pages.filter((page) => !page.owner || me?.role === 'owner'), ...more];
  const acts = here.flatMap((group) => group.acts.filter((act) => !act.keyOnly).map((act) => ({ group, act })));
  const groups: Group[] = [
    {
      title: 'Here',
      entries: best(words, acts, ({ act }) => act.name, MOST).map(({ group, act }) => ({
        id: `act-${group.title}-${act.name}`.replace(/\W+/g, '-'),
        name: act.name,
        key: act.key,
        go: () => {
          onClose();
          // Once the palette is gone, and the focus back where it was.
          window.setTimeout(act.run, 0);
        },
      })),
    },
    {
      title: 'Pages',
      entries: best(words, known, (page) => page.name, words ? MOST : 24).map((page) => ({
        id: `page-${page.to}`.replace(/\W+/g, '-'),
        name: page.name,
        go: go(page.to),
      })),
    },
  ];
  const path = words.includes('/') ? addressOf(words) : undefined;
  if (path) groups.unshift({ title: 'Path', entries: [{ id: 'path', name: words.trim(), go: go(path) }] });
  for (const [kind, title] of Object.entries(titles)) {
    const entries = found
      .filter((place) => place.kind === kind && place.page !== path)
      .map((place) => ({
        id: `place-${place.page}`.replace(/\W+/g, '-'),
        name: place.name,
        about: place.about ?? undefined,
        go: go(place.page),
      }));
    // A run that was named is one that its words were found in, too.
    groups.push({
      title,
      entries: entries.filter((one, index) => entries.findIndex(({ id }) => id === one.id) === index),
    });
  }
  return groups.filter((group) => group.entries.length > 0);
}

function useFound(words: string, project: string | undefined): Schemas['PlaceView'][] {
  const [settled, setSettled] = useState('');
  useEffect(() => {
    const timer = window.setTimeout(() => setSettled(words.trim()), PAUSE);
    return () => window.clearTimeout(timer);
  }, [words]);
  const { data } = useQuery({
    queryKey: ['search', settled, project],
    enabled: settled !== '',
    placeholderData: keepPreviousData,
    queryFn: () => answered(api.GET('/api/v1/search', { params: { query: { words: settled, project } } })),
  });
  return words.trim() === '' ? [] : (data ?? []);
}
