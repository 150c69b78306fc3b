// A job's time as a drawing of one line: all places in percent of its width.
import { memo } from 'react';
import { duration } from '../../../parts/words';
import type { Ghost } from './against';
import type { Segment } from './segments';
import { at, type Span } from './time';

const TOP = 8;
const HIGH = 12;

/** `label`: what is written after the bar, or before it where there is no room. */
export const Track = memo(function Track({
  segments,
  part,
  label,
  ghost,
  begin,
}: {
  segments: Segment[];
  part: Span;
  label?: string;
  ghost?: Ghost;
  begin: number;
}) {
  const shown = segments.filter((one) => one.to >= part.from && one.from <= part.to);
  const last = segments.at(-1);
  const end = segments.reduce((most, one) => Math.max(most, one.to), 0);
  const start = segments.reduce((least, one) => Math.min(least, one.from), last?.from ?? 0);
  const wide = at(part, end) > 84;
  return (
    <svg className="track" height="28" aria-hidden="true">
      {ghost && <GhostBar ghost={ghost} part={part} begin={begin} />}
      {shown.map((one, index) => {
        const [x, to] = [at(part, one.from), at(part, one.to)];
        return (
          <rect
            // biome-ignore lint/suspicious/noArrayIndexKey: segments only ever grow at the end
            key={index}
            className={`seg ${one.kind} s-${one.state}`}
            x={`${x}%`}
            y={one.kind === 'whole' ? 11 : TOP}
            width={`${Math.max(0.15, to - x)}%`}
            height={one.kind === 'whole' ? 6 : HIGH}
          >
            <title>{one.tells}</title>
          </rect>
        );
      })}
      {label && end >= part.from && (
        <text
          x={wide ? `${at(part, start)}%` : `${at(part, end)}%`}
          dx={wide ? -6 : 6}
          y="18"
          textAnchor={wide ? 'end' : 'start'}
        >
          {label}
        </text>
      )}
    </svg>
  );
});

/** When the same job ran in the run that this one is compared with. */
function GhostBar({ ghost, part, begin }: { ghost: Ghost; part: Span; begin: number }) {
  const [x, to] = [at(part, begin + ghost.from), at(part, begin + ghost.to)];
  return (
    <rect className="ghost" x={`${x}%`} y="5" width={`${Math.max(0.15, to - x)}%`} height="18">
      <title>{`then: ${duration(ghost.to - ghost.from)}`}</title>
    </rect>
  );
}
