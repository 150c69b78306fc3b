// A job's log, live. Its lines are numbered by the service and read a page at a time, only those in sight; steps fold;
// what one looks for is found by the service, over the whole log. A line's number is its address: #L120.
import Anser from 'anser';
import { useCallback, useEffect, useMemo, useRef, useState } from 'react';
import { useLocation, useNavigate } from 'react-router';
import { answered, api, type JobView, type PhaseView, type RunView, type Schemas } from '../../api/client';
import { Shape } from '../../look/states';
import { duration } from '../../parts/words';
import { type Lines, useLines } from './lines';
import { phaseState } from './phase';

/** What browsers can scroll through at this height of a line; of a longer log the last lines are shown. */
const MOST_LINES = 1_000_000;
const LINE = 17;
const FOLD = 24;

/** A phase's part of the log, and where it begins on the page, in pixels. */
type Section = { phase: PhaseView; at: number; first: number; end: number; open: boolean; top: number };
type Item = { key: string; top: number; section: Section; line: number | undefined };

export function Log({
  run,
  job,
  attempt,
  beside,
}: {
  run: RunView;
  job: JobView;
  attempt: Schemas['AttemptView'];
  beside: string | undefined;
}) {
  const lines = useLines(run, job.id, attempt.number, beside);
  const [toggled, setToggled] = useState<Record<number, boolean>>({});
  const phases = beside ? undefined : attempt.phases;
  const sections = useMemo(() => sectionsOf(phases, lines.total, toggled), [phases, lines.total, toggled]);
  const box = useRef<HTMLDivElement>(null);
  const follows = useRef(true);
  const [view, setView] = useState({ top: 0, height: 600 });
  const height = bottomOf(sections, phases !== undefined);
  const look = useCallback(() => {
    const element = box.current;
    if (!element) return;
    follows.current = element.scrollHeight - element.scrollTop - element.clientHeight < 40;
    setView({ top: element.scrollTop, height: element.clientHeight });
  }, []);
  useEffect(() => {
    const watch = new ResizeObserver(look);
    if (box.current) watch.observe(box.current);
    return () => watch.disconnect();
  }, [look]);
  const [marked, setMarked] = useState<number>();
  const scroll = useCallback((top: number) => {
    follows.current = false;
    box.current?.scrollTo({ top: Math.max(0, top - (box.current?.clientHeight ?? 0) / 2) });
  }, []);
  const jump = useJump(sections, setToggled, scroll, phases !== undefined, setMarked);
  useAddress(lines, jump);
  useFirstError(run, job, attempt, beside, setMarked);
  useEffect(() => {
    if (follows.current && lines.open) box.current?.scrollTo({ top: height });
  }, [height, lines.open]);
  const began = new Date(attempt.started_at).getTime();
  const items = inView(sections, view, phases !== undefined);
  const first = items.find((item) => item.line !== undefined)?.line;
  const last = items.findLast((item) => item.line !== undefined)?.line;
  const { want } = lines;
  useEffect(() => {
    if (first !== undefined && last !== undefined) want(first, last);
  }, [first, last, want]);
  return (
    <>
      <Finder
        run={run}
        job={job}
        attempt={attempt.number}
        beside={beside}
        jump={jump}
        failed={job.state === 'failed'}
      />
      {/* biome-ignore lint/a11y/noNoninteractiveTabindex: a scrolling region must be reachable by keyboard */}
      <section className="log" ref={box} onScroll={look} tabIndex={0} aria-label={`Log of ${job.id}`}>
        <div style={{ height, position: 'relative', minWidth: 'max-content', width: '100%' }}>
          {items.map((item) => (
            <div key={item.key} className="log-row" style={{ transform: `translateY(${item.top}px)` }}>
              {item.line === undefined ? (
                <Fold
                  section={item.section}
                  onToggle={() => setToggled((known) => ({ ...known, [item.section.at]: !item.section.open }))}
                />
              ) : (
                <Line number={item.line} known={lines.line(item.line)} began={began} marked={item.line === marked} />
              )}
            </div>
          ))}
        </div>
      </section>
      <div className="log-foot num">
        {lines.total === undefined
          ? 'reading'
          : `${lines.total.toLocaleString('en')} ${lines.total === 1 ? 'line' : 'lines'}${(lines.total ?? 0) > MOST_LINES ? ', the last million shown' : ''}${lines.open ? ', following' : ''}`}
      </div>
    </>
  );
}

/** The log cut at its phases; the failed and the running step are open, others folded. */
function sectionsOf(
  phases: PhaseView[] | undefined,
  total: number | undefined,
  toggled: Record<number, boolean>,
): Section[] {
  const all = total ?? 0;
  const least = Math.max(0, all - MOST_LINES);
  if (!phases) {
    const phase = { name: '', kind: 'step', started_at: '', failed: false, log_from: 0, log_line: 0 } as PhaseView;
    return [{ phase, at: 0, first: least, end: all, open: true, top: 0 }];
  }
  const steps = phases.filter((phase) => phase.kind === 'step').length;
  const sections: Section[] = [];
  let top = 0;
  phases.forEach((phase, at) => {
    const first = Math.min(Math.max(phase.log_line ?? 0, least), all);
    const end = Math.min(Math.max(phases[at + 1]?.log_line ?? all, first), all);
    const state = phaseState(phase);
    if (first === end && state === 'passed' && phase.kind !== 'step') return;
    const open = toggled[at] ?? (state !== 'passed' || (steps === 1 && phase.kind === 'step'));
    sections.push({ phase, at, first, end, open, top });
    top += FOLD + (open ? (end - first) * LINE : 0);
  });
  return sections;
}

function bottomOf(sections: Section[], folds: boolean): number {
  const last = sections.at(-1);
  return last ? last.top + (folds ? FOLD : 0) + (last.open ? (last.end - last.first) * LINE : 0) : 0;
}

/** What is to be drawn: folds and lines in sight, and a little around. Heights are fixed, so nothing is measured. */
function inView(sections: Section[], view: { top: number; height: number }, folds: boolean): Item[] {
  const [from, to] = [view.top - 20 * LINE, view.top + view.height + 20 * LINE];
  const items: Item[] = [];
  for (const section of sections) {
    if (section.top > to) break;
    const head = folds ? FOLD : 0;
    if (folds && section.top + FOLD >= from)
      items.push({ key: `fold ${section.at}`, top: section.top, section, line: undefined });
    if (!section.open) continue;
    const begin = section.top + head;
    const first = Math.max(section.first, section.first + Math.floor((from - begin) / LINE));
    const end = Math.min(section.end, section.first + Math.ceil((to - begin) / LINE));
    for (let line = first; line < end; line += 1)
      items.push({ key: `${line}`, top: begin + (line - section.first) * LINE, section, line });
  }
  return items;
}

/** Opens the section of a line and scrolls to it. */
function useJump(
  sections: Section[],
  setToggled: React.Dispatch<React.SetStateAction<Record<number, boolean>>>,
  scroll: (top: number) => void,
  folds: boolean,
  onJump: (line: number) => void,
): (line: number) => void {
  const [wanted, setWanted] = useState<number>();
  useEffect(() => {
    if (wanted === undefined) return;
    const section = sections.find((one) => one.first <= wanted && wanted < one.end);
    if (!section) return;
    if (!section.open) return setToggled((known) => ({ ...known, [section.at]: true }));
    scroll(section.top + (folds ? FOLD : 0) + (wanted - section.first) * LINE);
    setWanted(undefined);
  }, [wanted, sections, setToggled, scroll, folds]);
  return useCallback(
    (line: number) => {
      onJump(line);
      setWanted(line);
    },
    [onJump],
  );
}

/** `#L120` in the address, once its line is there. */
function useAddress(lines: Lines, jump: (line: number) => void) {
  const { hash } = useLocation();
  const seen = useRef('');
  const line = Number(/^#L(\d+)$/.exec(hash)?.[1] ?? 0) - 1;
  useEffect(() => {
    if (line >= 0 && seen.current !== hash && line < (lines.total ?? 0)) {
      seen.current = hash;
      jump(line);
    }
  }, [line, hash, lines.total, jump]);
}

/** Marks the first line of a failed step that tells of an error. */
function useFirstError(
  run: RunView,
  job: JobView,
  attempt: Schemas['AttemptView'],
  beside: string | undefined,
  mark: (line: number) => void,
) {
  const failed = beside ? undefined : attempt.phases.find((phase) => phase.failed && phase.kind === 'step');
  const from = failed?.log_line;
  useEffect(() => {
    if (from === undefined) return;
    const path = { project: run.project, number: run.number, job: job.id };
    const query = { attempt: attempt.number, from, most: 1 };
    answered(api.GET('/api/v1/runs/{project}/{number}/jobs/{job}/search', { params: { path, query } }))
      .then((answer) => answer.found[0] && mark(answer.found[0].line))
      .catch(() => undefined);
  }, [run.project, run.number, job.id, attempt.number, from, mark]);
}

/** A field to look for something in the whole log, and a way to the first error. */
function Finder({
  run,
  job,
  attempt,
  beside,
  jump,
  failed,
}: {
  run: RunView;
  job: JobView;
  attempt: number;
  beside: string | undefined;
  jump: (line: number) => void;
  failed: boolean;
}) {
  const navigate = useNavigate();
  const { pathname, search } = useLocation();
  // An address can bring what is to be found: the place of a test in its job's log.
  const brought = new URLSearchParams(search).get('find');
  const [text, setText] = useState(brought ?? '');
  const [found, setFound] = useState<{ lines: number[]; more: boolean; at: number; what: string }>();
  const ask = async (pattern: string | undefined) => {
    const path = { project: run.project, number: run.number, job: job.id };
    const query = { attempt, pattern, beside, most: 1000 };
    const answer = await answered(
      api.GET('/api/v1/runs/{project}/{number}/jobs/{job}/search', { params: { path, query } }),
    ).catch(() => undefined);
    const lines = answer?.found.map((one) => one.line) ?? [];
    setFound({ lines, more: answer?.more_from != null, at: 0, what: pattern ?? '' });
    if (lines[0] !== undefined) jump(lines[0]);
  };
  const pattern = text.replace(/[.*+?^${}()|[\]\\]/g, '\\$&');
  // biome-ignore lint/correctness/useExhaustiveDependencies: once, when the log is opened
  useEffect(() => {
    if (brought) void ask(pattern);
  }, []);
  const step = (by: number) => {
    if (!found || found.lines.length === 0) return;
    const at = (found.at + by + found.lines.length) % found.lines.length;
    setFound({ ...found, at });
    const line = found.lines[at];
    if (line !== undefined) jump(line);
  };
  const find = (event: React.FormEvent) => {
    event.preventDefault();
    const line = /^:(\d+)$/.exec(text)?.[1];
    if (line) navigate({ pathname, search, hash: `#L${line}` }, { replace: true });
    else if (text === '') setFound(undefined);
    else if (found?.what === pattern) step(1);
    else void ask(pattern);
  };
  return (
    <form className="finder num" onSubmit={find}>
      <input
        aria-label="Find in the log"
        placeholder="find, or :LINE"
        value={text}
        onChange={(event) => setText(event.target.value)}
      />
      <button type="button" disabled={!found?.lines.length} onClick={() => step(-1)}>
        previous
      </button>
      <button type="button" disabled={!found?.lines.length} onClick={() => step(1)}>
        next
      </button>
      <span className="soft" aria-live="polite">
        {found &&
          (found.lines.length === 0
            ? 'not there'
            : `${found.at + 1} of ${found.lines.length}${found.more ? ' and more' : ''}`)}
      </span>
      <span className="grow" />
      {failed && !beside && (
        <button type="button" onClick={() => ask(undefined)}>
          first error
        </button>
      )}
    </form>
  );
}

function Fold({ section, onToggle }: { section: Section; onToggle: () => void }) {
  const { phase, open, first, end } = section;
  const lines = end - first;
  return (
    <button type="button" className="fold" aria-expanded={open} onClick={onToggle}>
      <span aria-hidden="true">{open ? '▾' : '▸'}</span>
      <Shape state={phaseState(phase)} label />
      <span className="cut">{phase.name}</span>
      <span className="soft num" style={{ marginLeft: 'auto', whiteSpace: 'nowrap' }}>
        {lines.toLocaleString('en')} {lines === 1 ? 'line' : 'lines'}
        {phase.duration_ms != null && ` · ${duration(phase.duration_ms)}`}
      </span>
    </button>
  );
}

function Line({
  number,
  known,
  began,
  marked,
}: {
  number: number;
  known: { text: string; at: number } | undefined;
  began: number;
  marked: boolean;
}) {
  const navigate = useNavigate();
  const { pathname, search } = useLocation();
  const hash = `#L${number + 1}`;
  return (
    <div className={`line ${marked ? 'marked' : ''}`} id={`L${number + 1}`}>
      {/* biome-ignore lint/a11y/useKeyWithClickEvents lint/a11y/noStaticElementInteractions: `:120` in the field above does the same from the keyboard */}
      <span className="n num" onClick={() => navigate({ pathname, search, hash }, { replace: true })}>
        {marked && <Shape state="failed" label />}
        {number + 1}
      </span>
      <span className="t num">{known ? clock(known.at - began) : ''}</span>
      <span>{known ? colored(known.text.replace(/.*\r(?!$)/, '').replace(/\r$/, '')) : ''}</span>
    </div>
  );
}

/** Since the job began: 0.42, 12.3, 1:05, 1:02:33. */
function clock(ms: number): string {
  const seconds = Math.max(0, ms) / 1000;
  if (seconds < 10) return seconds.toFixed(2);
  if (seconds < 60) return seconds.toFixed(1);
  const two = (value: number) => String(Math.floor(value)).padStart(2, '0');
  const minutes = Math.floor(seconds / 60);
  if (minutes < 60) return `${minutes}:${two(seconds % 60)}`;
  return `${Math.floor(minutes / 60)}:${two(minutes % 60)}:${two(seconds % 60)}`;
}

/** ANSI colours as styles; a line without any is plain text. */
function colored(text: string) {
  if (!text.includes('\u001b')) return text;
  return Anser.ansiToJson(text, { remove_empty: true }).map((part, at) => {
    const style: React.CSSProperties = {
      color: part.fg ? `rgb(${part.fg})` : undefined,
      background: part.bg ? `rgb(${part.bg})` : undefined,
      fontWeight: part.decorations.includes('bold') ? 600 : undefined,
    };
    return (
      // biome-ignore lint/suspicious/noArrayIndexKey: the parts of a line never change their order
      <span key={at} style={style}>
        {part.content}
      </span>
    );
  });
}
