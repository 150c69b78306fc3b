// The part of a run's time that is looked at, and where moments stand in it. Places are in percent of the width.

/** From one moment to another, in milliseconds since 1970. */
export interface Span {
  from: number;
  to: number;
}

/** A part of less than this is not looked at more closely, in milliseconds. */
const LEAST = 20;

/** Where a moment stands; outside of the part it is at its edge. */
export const at = ({ from, to }: Span, moment: number) =>
  Math.min(100, Math.max(0, (100 * (moment - from)) / Math.max(1, to - from)));

/** The moment at a place. */
export const momentAt = ({ from, to }: Span, percent: number) => from + ((to - from) * percent) / 100;

/** A part within all that there is, no shorter than the least. */
export function within(part: Span, all: Span): Span {
  const most = Math.max(LEAST, all.to - all.from);
  const length = Math.min(most, Math.max(LEAST, part.to - part.from));
  const from = Math.min(Math.max(part.from, all.from), all.from + most - length);
  return { from, to: from + length };
}

/** Closer to a moment, or further off: what stands there stays there. */
export function zoomed(part: Span, all: Span, around: number, factor: number): Span {
  const length = (part.to - part.from) / factor;
  const share = (around - part.from) / Math.max(1, part.to - part.from);
  const from = around - share * length;
  return within({ from, to: from + length }, all);
}

/** Moved along by a share of its own length. */
export function moved(part: Span, all: Span, share: number): Span {
  const by = (part.to - part.from) * share;
  return within({ from: part.from + by, to: part.to + by }, all);
}

const STEPS = [
  5, 10, 20, 50, 100, 200, 500, 1000, 2000, 5000, 10_000, 15_000, 30_000, 60_000, 120_000, 300_000, 600_000, 1_800_000,
  3_600_000,
];

/** Round moments since the beginning, `most` steps of them: what there is room for. Given and told in milliseconds. */
export function ticks(part: Span, begin: number, most = 7): number[] {
  const [from, to] = [part.from - begin, part.to - begin];
  const span = to - from;
  const step = STEPS.find((one) => span / one <= most) ?? 3_600_000 * Math.ceil(span / 3_600_000 / most);
  const first = Math.ceil(from / step);
  return Array.from({ length: Math.max(0, Math.floor(to / step) - first + 1) }, (_, index) => (first + index) * step);
}
