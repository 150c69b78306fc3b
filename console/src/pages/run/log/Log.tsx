// A job's log, live, at full width. Its lines are numbered by the service and read a page at a time, only those in sight;
// steps fold; what one looks for is found by the service, over the whole log. Lines have addresses: #L120, #L120-L135.
import { useCallback, useEffect, useMemo, useRef, useState } from 'react';
import { useLocation } from 'react-router';
import { answered, api } from '../../../api/client';
import { useActs } from '../../../parts/acts';
import { Gap } from '../../../parts/Gap';
import { useKept } from '../../../parts/kept';
import { many } from '../../../parts/words';
import { ChosenBar, useChosen } from './Chosen';
import { linesOf } from './chosen';
import { Finder, useFinder } from './Finder';
import { Heights } from './heights';
import { type Lines, type LogOf, PAGE, type Page, useLines } from './lines';
import { Fold, Row } from './Row';
import { bottomOf, FOLD, inView, LINE, MOST_LINES, type Section, sectionsOf, topOf } from './sections';
import { rowsOf } from './text';

export function Log({ run, job, attempt, beside }: LogOf) {
  const of = { run, job, attempt, beside };
  const lines = useLines(run, job.id, attempt.number, beside);
  const [wraps, setWraps] = useKept<boolean>('log.wraps', false);
  const [toggled, setToggled] = useState<Record<number, boolean>>({});
  const box = useRef<HTMLElement>(null);
  const columns = useColumns(box);
  const heights = useHeights(lines, wraps ? columns : 0);
  const phases = beside ? undefined : attempt.phases;
  const folds = phases !== undefined;
  const sections = useMemo(
    () => sectionsOf(phases, lines.total, toggled, heights),
    [phases, lines.total, toggled, heights],
  );
  const height = bottomOf(sections, folds, heights);
  const { view, look, follows, putAnchor } = useView(box, sections, folds, heights);
  const { named, jump } = useJump({ box, sections, folds, heights, lines, setToggled, putAnchor });
  const error = useFirstError(of);
  const finder = useFinder(of, jump);
  useEffect(() => {
    if (follows.current && lines.open) box.current?.scrollTo({ top: height });
  }, [height, lines.open, follows]);
  const items = inView(sections, view, folds, heights);
  const chosen = useChosen(box, lines, named);
  const { want } = lines;
  const first = items.find((item) => item.line !== undefined)?.line;
  const last = items.findLast((item) => item.line !== undefined)?.line;
  useEffect(() => {
    if (first !== undefined && last !== undefined) want(first, last);
  }, [first, last, want]);
  useActs('Log', [
    { name: wraps ? 'Do not wrap long lines' : 'Wrap long lines', key: 'l', run: () => setWraps(!wraps) },
    { name: 'Find in the log', key: 's', run: finder.focus },
    { name: 'Next find', key: 'n', run: () => finder.step(1) },
    { name: 'Find before', key: 'N', run: () => finder.step(-1) },
    { name: 'First error, then the next', key: 'e', run: () => finder.error(1) },
    { name: 'Error before', key: 'E', run: () => finder.error(-1) },
    { name: 'Raw log in a new tab', key: 'r', run: () => window.open(rawOf(of), '_blank', 'noopener') },
  ]);
  const began = new Date(attempt.started_at).getTime();
  const row = (line: number) => (
    <Row
      key={line}
      number={line}
      known={lines.line(line)}
      began={began}
      error={line === error || line === finder.marked}
      named={named !== undefined && named[0] <= line && line <= named[1]}
      found={finder.pattern}
    />
  );
  const pinned = chosen.pinned;
  const above = pinned !== undefined && first !== undefined && pinned < first ? pinned : undefined;
  const below = pinned !== undefined && last !== undefined && pinned > last ? pinned : undefined;
  const top = items[0]?.top ?? 0;
  // All in one list: a line that comes out of sight while text is marked from it stays the same piece of the page.
  const drawn = [
    <Gap key="above" height={above === undefined ? top : 0} />,
    above === undefined ? null : row(above),
    <Gap key="between" height={above === undefined ? 0 : top - LINE} />,
    ...items.map((item) =>
      item.line === undefined ? (
        <Fold
          key={item.key}
          section={item.section}
          onToggle={() => setToggled((known) => ({ ...known, [item.section.at]: !item.section.open }))}
        />
      ) : (
        row(item.line)
      ),
    ),
    <Gap key="below" height={height - endOf(items, sections, folds, heights)} />,
    below === undefined ? null : row(below),
  ];
  return (
    <>
      <Finder
        finder={finder}
        wraps={wraps}
        onWrap={() => setWraps(!wraps)}
        raw={rawOf(of)}
        failed={job.state === 'failed'}
      />
      {chosen.chosen && <ChosenBar {...chosen} began={began} />}
      <section
        className={`log ${wraps ? 'wraps' : ''}`}
        ref={box}
        onScroll={look}
        // biome-ignore lint/a11y/noNoninteractiveTabindex: a scrolling region must be reachable by keyboard
        tabIndex={0}
        aria-label={`Log of ${job.id}`}
      >
        <span className="probe" aria-hidden="true">
          0000000000
        </span>
        <div className="log-lines">{drawn}</div>
      </section>
      <div className="log-foot num">
        {lines.total === undefined
          ? 'reading'
          : `${many(lines.total, 'line')}${lines.total > MOST_LINES ? ', the last million shown' : ''}${lines.open ? ', following' : ''}`}
      </div>
    </>
  );
}

/** The log as the program printed it, as a page of its own. */
function rawOf({ run, job, attempt, beside }: LogOf): string {
  const helper = beside ? `&beside=${encodeURIComponent(beside)}` : '';
  const whole = `attempt=${attempt.number}${helper}`;
  return `/api/v1/runs/${run.project}/${run.number}/jobs/${encodeURIComponent(job.id)}/log?${whole}`;
}

/** Where what is drawn ends. */
function endOf(items: ReturnType<typeof inView>, sections: Section[], folds: boolean, heights: Heights): number {
  const last = items.at(-1);
  if (!last) return 0;
  if (last.line === undefined) return last.top + FOLD;
  const section = sections.find((one) => one.at === last.section.at) ?? last.section;
  return topOf(section, last.line + 1, folds, heights);
}

/** How many characters of the log's type stand side by side in the room that a line's text has. */
function useColumns(box: React.RefObject<HTMLElement | null>): number {
  const [columns, setColumns] = useState(80);
  useEffect(() => {
    const element = box.current;
    if (!element) return;
    const measure = () => {
      const one = (element.querySelector('.probe')?.getBoundingClientRect().width ?? 75) / 10;
      const gutter = element.querySelector<HTMLElement>('.line .x')?.offsetLeft ?? 136;
      const fits = Math.max(20, Math.floor((element.clientWidth - gutter - 12) / Math.max(1, one)));
      element.style.setProperty('--columns', String(fits));
      setColumns(fits);
    };
    const watch = new ResizeObserver(measure);
    watch.observe(element);
    return () => watch.disconnect();
  }, [box]);
  return columns;
}

const counted = new WeakMap<Page, { columns: number; rows: number[] }>();

/** The rows of every line at hand, when lines wrap at so many columns; without wrapping one a line. */
function useHeights(lines: Lines, columns: number): Heights {
  const { pages, version } = lines;
  // biome-ignore lint/correctness/useExhaustiveDependencies: `version` tells that a page was read
  return useMemo(() => {
    const heights = new Heights(PAGE);
    if (columns === 0) return heights;
    for (const [number, page] of pages) {
      let known = counted.get(page);
      if (known?.columns !== columns) {
        known = { columns, rows: page.texts.map((text) => rowsOf(text, columns)) };
        counted.set(page, known);
      }
      heights.set(number, known.rows);
    }
    return heights;
  }, [pages, version, columns]);
}

/** The line at the top of what is seen, and how far it has gone beyond the top. */
type Anchor = { line: number; past: number };

/** What is in sight. When lines above turn out to be higher than was thought, what is read stays where it is. */
function useView(box: React.RefObject<HTMLElement | null>, sections: Section[], folds: boolean, heights: Heights) {
  const follows = useRef(true);
  const anchor = useRef<Anchor>(undefined);
  const [view, setView] = useState({ top: 0, height: 600 });
  const latest = useRef({ sections, folds, heights });
  const look = useCallback(() => {
    const element = box.current;
    if (!element) return;
    follows.current = element.scrollHeight - element.scrollTop - element.clientHeight < 40;
    setView({ top: element.scrollTop, height: element.clientHeight });
    const { sections, folds, heights } = latest.current;
    const items = inView(sections, { top: element.scrollTop, height: 0 }, folds, heights);
    const item = items.find((one) => one.line !== undefined && one.top >= element.scrollTop);
    anchor.current = item?.line === undefined ? undefined : { line: item.line, past: element.scrollTop - item.top };
  }, [box]);
  useEffect(() => {
    const watch = new ResizeObserver(look);
    if (box.current) watch.observe(box.current);
    return () => watch.disconnect();
  }, [box, look]);
  useEffect(() => {
    const before = latest.current;
    latest.current = { sections, folds, heights };
    const { current } = anchor;
    const element = box.current;
    if (!current || !element || follows.current || before.heights === heights) return;
    const section = sections.find((one) => one.open && one.first <= current.line && current.line < one.end);
    if (!section) return;
    const top = topOf(section, current.line, folds, heights) + current.past;
    if (Math.abs(top - element.scrollTop) > 1) element.scrollTop = top;
  }, [sections, folds, heights, box]);
  const putAnchor = useCallback((next: Anchor) => {
    follows.current = false;
    anchor.current = next;
  }, []);
  return { view, look, follows, putAnchor };
}

/** Opens the section of a line and scrolls to it: one that the address names, or one that was found. */
function useJump({
  box,
  sections,
  folds,
  heights,
  lines,
  setToggled,
  putAnchor,
}: {
  box: React.RefObject<HTMLElement | null>;
  sections: Section[];
  folds: boolean;
  heights: Heights;
  lines: Lines;
  setToggled: React.Dispatch<React.SetStateAction<Record<number, boolean>>>;
  putAnchor: (anchor: Anchor) => void;
}) {
  const [wanted, setWanted] = useState<number>();
  useEffect(() => {
    if (wanted === undefined) return;
    const section = sections.find((one) => one.first <= wanted && wanted < one.end);
    if (!section) return;
    if (!section.open) return setToggled((known) => ({ ...known, [section.at]: true }));
    const half = (box.current?.clientHeight ?? 0) / 2;
    putAnchor({ line: wanted, past: -half });
    box.current?.scrollTo({ top: Math.max(0, topOf(section, wanted, folds, heights) - half) });
    setWanted(undefined);
  }, [wanted, sections, setToggled, box, folds, heights, putAnchor]);
  const { hash } = useLocation();
  const named = useMemo(() => linesOf(hash), [hash]);
  const seen = useRef('');
  useEffect(() => {
    if (named && seen.current !== hash && named[0] < (lines.total ?? 0)) {
      seen.current = hash;
      setWanted(named[0]);
    }
  }, [named, hash, lines.total]);
  return { named, jump: setWanted };
}

/** The first line of a failed step that tells of an error. */
function useFirstError({ run, job, attempt, beside }: LogOf): number | undefined {
  const [error, setError] = useState<number>();
  const failed = beside ? undefined : attempt.phases.find((phase) => phase.failed && phase.kind === 'step');
  const from = failed?.log_line;
  useEffect(() => {
    if (from === undefined) return;
    const path = { project: run.project, number: run.number, job: job.id };
    const query = { attempt: attempt.number, from, most: 1 };
    answered(api.GET('/api/v1/runs/{project}/{number}/jobs/{job}/search', { params: { path, query } }))
      .then((answer) => setError(answer.found[0]?.line))
      .catch(() => undefined);
  }, [run.project, run.number, job.id, attempt.number, from]);
  return error;
}
