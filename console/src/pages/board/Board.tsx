// The board: is anything broken, since when, and whose is it? For a thousand projects as for three: filtered as one types,
// grouped, pinned ones first; as lines, denser, or for a screen on a wall.
import { useVirtualizer } from '@tanstack/react-virtual';
import { memo, useCallback, useDeferredValue, useEffect, useMemo, useRef } from 'react';
import { Link } from 'react-router';
import { type BoardLine, useMay } from '../../api/client';
import { useActs } from '../../parts/acts';
import { useKept } from '../../parts/kept';
import { Trouble } from '../../parts/Trouble';
import { useSearchWords } from '../../parts/useSearchWords';
import { many } from '../../parts/words';
import { NeedsOnBoard } from '../delivery/Needs';
import { Line } from './Line';
import { type By, headline, isBroken, isRunning, type Only, type Row, rowsOf, shown } from './lines';
import { useBoard } from './useBoard';
import { Wall } from './Wall';
import './board.css';
import { useSearch } from '../../parts/useSearch';

type Form = 'lines' | 'dense' | 'wall';

const onlys: [Only, string][] = [
  ['all', 'all'],
  ['mine', 'mine'],
  ['broken', 'broken'],
  ['running', 'running'],
];
const bys: [By, string][] = [
  ['nothing', 'no groups'],
  ['verdict', 'by verdict'],
  ['home', 'by repository'],
];
const forms: [Form, string][] = [
  ['lines', 'lines'],
  ['dense', 'dense'],
  ['wall', 'wall'],
];

/** What is looked at is in the address; how it is looked at is kept in this browser as well. */
function useWanted() {
  const [search, put] = useSearch();
  const [words, setWords] = useSearchWords('find');
  const [pins, setPins] = useKept<string>('board.pins', '');
  const [folded, setFolded] = useKept<string>('board.folded', '');
  const [by, setBy] = useKept<string>('board.by', 'nothing');
  const [form, setForm] = useKept<string>('board.form', 'lines');
  const unless = (key: string, value: string, usual: string) => put(key, value === usual ? undefined : value);
  const one = <T extends string>(of: [T, string][], named: string | null, usual: T) =>
    of.find(([key]) => key === named)?.[0] ?? usual;
  const pinned = useMemo(() => pins.split(',').filter(Boolean), [pins]);
  const shut = useMemo(() => folded.split('\n').filter(Boolean), [folded]);
  const turned = (list: string[], name: string) =>
    list.includes(name) ? list.filter((one) => one !== name) : [...list, name];
  const pin = useRef((_: string) => {});
  pin.current = (project) => setPins(turned(pinned, project).join(','));
  return {
    words,
    only: one(onlys, search.get('only'), 'all'),
    by: one(bys, search.get('by') ?? by, 'nothing'),
    form: one(forms, search.get('form') ?? form, 'lines'),
    pins: pinned,
    folded: shut,
    setWords,
    setOnly: (only: Only) => unless('only', only, 'all'),
    setBy: (next: By) => {
      setBy(next);
      put('by', undefined);
    },
    setForm: (next: Form) => {
      // A screen on a wall is set up by its address.
      if (next !== 'wall') setForm(next);
      unless('form', next === 'wall' ? 'wall' : 'lines', 'lines');
    },
    fold: (name: string) => setFolded(turned(shut, name).join('\n')),
    pin: useCallback((project: string) => pin.current(project), []),
  };
}

export default function Board() {
  const { data, error } = useBoard();
  // Many lines that change at once are drawn between frames, not within one.
  const projects = useDeferredValue(data?.projects);
  if (error) return <Trouble error={error} />;
  if (!projects) return null;
  if (projects.length === 0)
    return (
      <p className="empty">
        Here each project has its line: the verdict on its main branch, its last runs, and what runs now.{' '}
        <Link to="/add">Add the first one.</Link>
      </p>
    );
  return <Projects all={projects} />;
}

const Projects = memo(function Projects({ all }: { all: BoardLine[] }) {
  const wanted = useWanted();
  const { words, only, by, pins, folded } = wanted;
  const [lines, rows] = useMemo(() => {
    const how = { words, only, by, pins, folded };
    const lines = shown(all, how);
    return [lines, rowsOf(lines, how)];
  }, [all, words, only, by, pins, folded]);
  const owner = useMay('owner');
  const wall = wanted.form === 'wall';
  const field = useRef<HTMLInputElement>(null);
  useActs('Board', [
    { name: 'Filter the board', key: 's', run: () => field.current?.focus() },
    ...onlys.map(([key, word]) => ({ name: `Show ${word} projects`, run: () => wanted.setOnly(key) })),
    ...bys.map(([key, word]) => ({ name: `Board: ${word}`, run: () => wanted.setBy(key) })),
    ...forms.map(([key, word]) => ({ name: `Board as ${word}`, run: () => wanted.setForm(key) })),
  ]);
  useWall(wall);
  if (wall)
    return (
      <>
        <h1 className="wall-headline">{headline(all)}</h1>
        <Wall lines={lines} />
        <button type="button" className="link leave-wall" onClick={() => wanted.setForm('lines')}>
          back to lines
        </button>
      </>
    );
  return (
    <>
      <h1>{headline(all)}</h1>
      <NeedsOnBoard />
      <search className="bar title board-bar">
        <input
          ref={field}
          className="field w-240"
          type="search"
          aria-label="Filter projects"
          placeholder="filter: a name, failed, Ines …"
          value={wanted.words}
          onChange={(event) => wanted.setWords(event.target.value)}
        />
        <Choice label="Which projects" of={onlys} is={wanted.only} onChoose={wanted.setOnly} />
        <span className="grow" />
        <span className="soft num" aria-live="polite">
          {lines.length === all.length ? '' : `${lines.length} of ${many(all.length, 'project')}`}
        </span>
        <Choice label="Groups" of={bys} is={wanted.by} onChoose={wanted.setBy} />
        <Choice label="Form" of={forms} is={wanted.form} onChoose={wanted.setForm} />
        {owner && <Link to="/add">add a project</Link>}
      </search>
      {lines.length === 0 ? (
        <p className="empty">{nothing(wanted.only, wanted.words)}</p>
      ) : (
        <Table rows={rows} dense={wanted.form === 'dense'} onPin={wanted.pin} onFold={wanted.fold} />
      )}
    </>
  );
});

function nothing(only: Only, words: string): string {
  if (words !== '') return `No ${only === 'all' ? '' : `${only} `}project has “${words}” in its line.`;
  if (only === 'mine')
    return 'None of these is yours yet: one is where you have a role of your own, or began a run or wrote a commit of its last 30.';
  return only === 'broken' ? 'No main branch is broken.' : 'Nothing runs now.';
}

/** A screen on a wall has no use for the head line. */
function useWall(wall: boolean) {
  useEffect(() => {
    document.documentElement.classList.toggle('on-wall', wall);
    return () => document.documentElement.classList.remove('on-wall');
  }, [wall]);
}

function Choice<T extends string>({
  label,
  of,
  is,
  onChoose,
}: {
  label: string;
  of: [T, string][];
  is: T;
  onChoose: (one: T) => void;
}) {
  return (
    <fieldset className="words bare" aria-label={label}>
      {of.map(([key, word]) => (
        <button key={key} type="button" aria-pressed={key === is} onClick={() => onChoose(key)}>
          {word}
        </button>
      ))}
    </fieldset>
  );
}

const HEIGHT = { group: 33, line: 35, broke: 65, dense: 27 };

/** Only the rows in sight are on the page; the rest is room. */
function Table({
  rows,
  dense,
  onPin,
  onFold,
}: {
  rows: Row[];
  dense: boolean;
  onPin: (project: string) => void;
  onFold: (name: string) => void;
}) {
  const box = useRef<HTMLTableElement>(null);
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => box.current?.closest<HTMLElement>('.page') ?? null,
    estimateSize: (at) => {
      const row = rows[at];
      if (row?.kind === 'group') return HEIGHT.group;
      if (row?.line.broke) return dense ? 2 * HEIGHT.dense : HEIGHT.broke;
      return dense ? HEIGHT.dense : HEIGHT.line;
    },
    getItemKey: (at) => {
      const row = rows[at];
      return row?.kind === 'line' ? row.line.project : `group ${row?.name}`;
    },
    scrollMargin: box.current?.offsetTop ?? 0,
    overscan: 8,
  });
  // biome-ignore lint/correctness/useExhaustiveDependencies: measured again whenever the rows are others
  useEffect(() => virtual.measure(), [rows, dense]);
  const items = virtual.getVirtualItems();
  const before = (items[0]?.start ?? 0) - virtual.options.scrollMargin;
  const after = virtual.getTotalSize() - ((items.at(-1)?.end ?? 0) - virtual.options.scrollMargin);
  return (
    <table className={`sheet board ${dense ? 'dense' : ''}`} ref={box} aria-rowcount={rows.length + 1}>
      <thead>
        <tr>
          <th className="w-220">project</th>
          <th className="w-110">main</th>
          <th className="w-80">since</th>
          <th className="w-300">last 30 runs</th>
          <th>now</th>
        </tr>
      </thead>
      <Room height={before} />
      {items.map((item) => {
        const row = rows[item.index];
        if (!row) return null;
        return (
          <tbody key={item.key} data-index={item.index} ref={virtual.measureElement}>
            {row.kind === 'group' ? (
              <Head group={row} onFold={onFold} />
            ) : (
              <Line line={row.line} pinned={row.pinned} onPin={onPin} />
            )}
          </tbody>
        );
      })}
      <Room height={after} />
    </table>
  );
}

function Room({ height }: { height: number }) {
  if (height <= 0) return null;
  return (
    <tbody aria-hidden="true">
      <tr>
        <td colSpan={5} className="room">
          <svg className="gap" width="1" height={height} />
        </td>
      </tr>
    </tbody>
  );
}

function Head({ group, onFold }: { group: Extract<Row, { kind: 'group' }>; onFold: (name: string) => void }) {
  const [broken, running] = [group.lines.filter(isBroken).length, group.lines.filter(isRunning).length];
  return (
    <tr className="group">
      <th colSpan={5} scope="rowgroup">
        <button type="button" className="plain" aria-expanded={group.open} onClick={() => onFold(group.name)}>
          <span aria-hidden="true">{group.open ? '▾' : '▸'}</span> {group.name}{' '}
          <span className="soft num">
            {many(group.lines.length, 'project')}
            {broken > 0 && <span className="s-failed">, {broken} broken</span>}
            {running > 0 && `, ${running} running`}
          </span>
        </button>
      </th>
    </tr>
  );
}
