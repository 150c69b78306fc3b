// A job's log, live: read in pieces with calls that the service holds until there is more. Steps fold; only the rows
// in sight are on the page. Of a very long log the end is read, and it says so.
import { useVirtualizer } from '@tanstack/react-virtual';
import Anser from 'anser';
import { useEffect, useMemo, useRef, useState } from 'react';
import type { JobView, PhaseView, RunView, Schemas } from '../../api/client';
import { Shape } from '../../look/states';
import { duration, bytes as size } from '../../parts/words';
import { phaseState } from './JobPanel';

/** How much of a log's end is read at first, and kept at most. */
const TAIL = 2 * 1024 * 1024;

type Piece = { data: Uint8Array; from: number; length: number; open: boolean };
type Row =
  | { kind: 'fold'; phase: PhaseView; at: number; open: boolean; lines: number }
  | { kind: 'line'; number: number; text: string; marked: boolean };

export function Log({ run, job, attempt }: { run: RunView; job: JobView; attempt: Schemas['AttemptView'] }) {
  const piece = useLog(`/api/v1/runs/${run.run}/jobs/${job.id}/log?attempt=${attempt.number}`);
  const [toggled, setToggled] = useState<Record<number, boolean>>({});
  const rows = useMemo(() => (piece ? toRows(piece, attempt.phases, toggled) : []), [piece, attempt.phases, toggled]);
  const box = useRef<HTMLDivElement>(null);
  const follows = useRef(true);
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => box.current,
    estimateSize: (at) => (rows[at]?.kind === 'fold' ? 24 : 17),
    overscan: 20,
  });
  // biome-ignore lint/correctness/useExhaustiveDependencies: measured anew whenever the rows are others
  useEffect(() => virtual.measure(), [rows]);
  useEffect(() => {
    if (follows.current && piece?.open && rows.length > 0) virtual.scrollToIndex(rows.length - 1);
  }, [rows, piece?.open, virtual]);
  const scrolled = () => {
    const element = box.current;
    if (element) follows.current = element.scrollHeight - element.scrollTop - element.clientHeight < 40;
  };
  return (
    <>
      {/* biome-ignore lint/a11y/noNoninteractiveTabindex: a scrolling region must be reachable by keyboard */}
      <section className="log" ref={box} onScroll={scrolled} tabIndex={0} aria-label={`Log of ${job.id}`}>
        <div style={{ height: virtual.getTotalSize(), position: 'relative', minWidth: 'max-content', width: '100%' }}>
          {virtual.getVirtualItems().map((item) => (
            <div
              key={item.key}
              style={{ position: 'absolute', top: 0, left: 0, right: 0, transform: `translateY(${item.start}px)` }}
            >
              {drawn(rows[item.index], (at, open) => setToggled((known) => ({ ...known, [at]: !open })))}
            </div>
          ))}
        </div>
      </section>
      <div className="log-foot num">
        {piece
          ? `${size(piece.length)}${piece.from > 0 ? `, the last ${size(piece.length - piece.from)} shown` : ''}${piece.open ? ', following' : ''}`
          : 'reading'}
      </div>
    </>
  );
}

function drawn(row: Row | undefined, toggle: (at: number, open: boolean) => void) {
  if (!row) return null;
  if (row.kind === 'line') {
    return (
      <div className="line">
        <span className="n num">
          {row.marked && <Shape state="failed" label />}
          {row.number}
        </span>
        <span>{colored(row.text)}</span>
      </div>
    );
  }
  return (
    <button type="button" className="fold" aria-expanded={row.open} onClick={() => toggle(row.at, row.open)}>
      <span aria-hidden="true">{row.open ? '▾' : '▸'}</span>
      <Shape state={phaseState(row.phase)} label />
      <span className="cut">{row.phase.name}</span>
      <span className="soft num" style={{ marginLeft: 'auto', whiteSpace: 'nowrap' }}>
        {row.lines} {row.lines === 1 ? 'line' : 'lines'}
        {row.phase.duration_ms != null && ` · ${duration(row.phase.duration_ms)}`}
      </span>
    </button>
  );
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

const decoder = new TextDecoder();
const wrong = /\b(error|fail(ed|ure)?|fatal|panic)\b/i;

/** Cuts the log at the phases' first bytes; the failed and the running step are open, others folded. */
function toRows(piece: Piece, phases: PhaseView[], toggled: Record<number, boolean>): Row[] {
  const rows: Row[] = [];
  let number = 0;
  phases.forEach((phase, at) => {
    const begin = Math.max(0, phase.log_from - piece.from);
    const end = Math.max(0, (phases[at + 1]?.log_from ?? Number.POSITIVE_INFINITY) - piece.from);
    const text = decoder.decode(piece.data.subarray(begin, Math.min(end, piece.data.length)));
    const lines = text === '' ? [] : text.replace(/\n$/, '').split('\n');
    const state = phaseState(phase);
    if (lines.length === 0 && state === 'passed' && phase.kind !== 'step') return;
    const onlyStep = phases.filter((one) => one.kind === 'step').length === 1 && phase.kind === 'step';
    const open = toggled[at] ?? (state !== 'passed' || onlyStep);
    rows.push({ kind: 'fold', phase, at, open, lines: lines.length });
    const first = state === 'failed' ? lines.findIndex((line) => wrong.test(line)) : -1;
    lines.forEach((line, index) => {
      number += 1;
      if (open)
        rows.push({
          kind: 'line',
          number,
          text: line.replace(/.*\r(?!$)/, '').replace(/\r$/, ''),
          marked: index === first,
        });
    });
  });
  return rows;
}

/** Reads a log from near its end, then follows it for as long as it is open. */
function useLog(url: string): Piece | undefined {
  const [piece, setPiece] = useState<Piece>();
  useEffect(() => {
    const stop = new AbortController();
    const pause = (ms: number) => new Promise((done) => setTimeout(done, ms));
    const read = async () => {
      let known: Piece | undefined;
      while (!stop.signal.aborted) {
        const where: string = known ? `offset=${known.from + known.data.length}&wait_ms=20000` : `tail=${TAIL}`;
        try {
          const answer = await fetch(`${url}&${where}`, { signal: stop.signal });
          if (!answer.ok) throw new Error(String(answer.status));
          const fresh = new Uint8Array(await answer.arrayBuffer());
          const header = (name: string) => answer.headers.get(`ordotaxis-log-${name}`) ?? '';
          known = joined(known, fresh, {
            from: Number(header('offset')),
            length: Number(header('length')),
            open: header('open') === 'true',
          });
          setPiece(known);
          if (!known.open) return;
        } catch {
          // The service may be starting anew; the log goes on where it was.
          if (!stop.signal.aborted) await pause(1000);
        }
      }
    };
    read();
    return () => stop.abort();
  }, [url]);
  return piece;
}

function joined(
  known: Piece | undefined,
  fresh: Uint8Array,
  { from, length, open }: { from: number; length: number; open: boolean },
): Piece {
  if (!known) return { data: fresh, from, length, open };
  const all = new Uint8Array(known.data.length + fresh.length);
  all.set(known.data);
  all.set(fresh, known.data.length);
  const over = Math.max(0, all.length - 2 * TAIL);
  return { data: all.subarray(over), from: known.from + over, length, open };
}
