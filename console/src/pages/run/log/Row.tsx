// One row of a log: a fold's head, or a line with its number and its time.
import { memo } from 'react';
import { useLocation } from 'react-router';
import { Shape } from '../../../look/states';
import { duration, many } from '../../../parts/words';
import { phaseState } from '../phase';
import { clock, hashOf, linesOf } from './chosen';
import type { Section } from './sections';
import { marked, marksIn, parts, plain } from './text';
import { useGoToLines } from './where';

export function Fold({ section, onToggle }: { section: Section; onToggle: () => void }) {
  const { phase, open, first, end } = section;
  return (
    <button type="button" className="fold" aria-expanded={open} onClick={onToggle}>
      <span aria-hidden="true">{open ? '▾' : '▸'}</span>
      <Shape state={phaseState(phase)} label />
      <span className="cut">{phase.name}</span>
      <span className="soft num end">
        {many(end - first, 'line')}
        {phase.duration_ms != null && ` · ${duration(phase.duration_ms)}`}
      </span>
    </button>
  );
}

interface RowProps {
  number: number;
  known: { text: string; at: number } | undefined;
  began: number;
  error: boolean;
  named: boolean;
  found: RegExp | undefined;
}

export const Row = memo(function Row({ number, known, began, error, named, found }: RowProps) {
  return (
    <div className={`line ${error ? 'marked' : ''} ${named ? 'named' : ''}`} id={`L${number + 1}`} data-line={number}>
      <LineNumber number={number} error={error} />
      <span className="t num">{known ? clock(known.at - began) : ''}</span>
      <span className="x">{known && <Text text={known.text} found={found} />}</span>
    </div>
  );
}, sameRow);

function sameRow(one: RowProps, other: RowProps): boolean {
  return (
    one.number === other.number &&
    one.known?.text === other.known?.text &&
    one.known?.at === other.known?.at &&
    one.error === other.error &&
    one.named === other.named &&
    one.found === other.found
  );
}

/** A line's number is its address; with Shift it is the other end of several lines. */
function LineNumber({ number, error }: { number: number; error: boolean }) {
  const { hash } = useLocation();
  const go = useGoToLines();
  const choose = (event: React.MouseEvent) => {
    event.preventDefault();
    const named = event.shiftKey ? linesOf(hash) : undefined;
    go(named?.[0] ?? number, number);
  };
  return (
    <a className="n num" href={hashOf(number, number)} tabIndex={-1} onClick={choose}>
      {error && <Shape state="failed" label />}
      {number + 1}
    </a>
  );
}

function Text({ text, found }: { text: string; found: RegExp | undefined }) {
  const pieces = marked(parts(text), marksIn(plain(text), found));
  return pieces.map((piece, at) =>
    piece.found ? (
      // biome-ignore lint/suspicious/noArrayIndexKey: the parts of a line never change their order
      <mark key={at} className={piece.look}>
        {piece.text}
      </mark>
    ) : piece.look ? (
      // biome-ignore lint/suspicious/noArrayIndexKey: the parts of a line never change their order
      <span key={at} className={piece.look}>
        {piece.text}
      </span>
    ) : (
      piece.text
    ),
  );
}
