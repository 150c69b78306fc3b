// The time on top of the lanes. Dragging over it looks closer at that part; with the wheel and Ctrl, or Shift, one goes
// closer, or along; a double click shows all. Where the pointer is, the time is told, and how many jobs ran then.
import { useEffect, useRef, useState } from 'react';
import { duration, many } from '../../../parts/words';
import type { Row } from './rows';
import { at, momentAt, moved, type Span, ticks, zoomed } from './time';

/** What a time needs with the space beside it, in pixels. */
const WORDS = 72;

/** How far the pointer must be dragged to choose a part, in percent of the width. */
const DRAGGED = 1;

export function Axis({
  part,
  all,
  rows,
  now,
  onPart,
}: {
  part: Span;
  all: Span;
  rows: Row[];
  now: number;
  onPart: (part: Span) => void;
}) {
  const axis = useRef<SVGSVGElement>(null);
  const [most, setMost] = useState(7);
  const newest = useRef({ part, all, rows, now, onPart });
  newest.current = { part, all, rows, now, onPart };
  useEffect(() => {
    const svg = axis.current;
    const pane = svg?.closest<HTMLElement>('.lanes');
    if (!svg || !pane) return;
    const percent = (event: MouseEvent) => {
      const { left, width } = svg.getBoundingClientRect();
      return Math.min(100, Math.max(0, (100 * (event.clientX - left)) / Math.max(1, width)));
    };
    const wheel = (event: WheelEvent) => {
      if (!event.ctrlKey && !event.shiftKey) return;
      event.preventDefault();
      const { part, all, onPart } = newest.current;
      const by = event.deltaY || event.deltaX;
      if (event.ctrlKey) onPart(zoomed(part, all, momentAt(part, percent(event)), by < 0 ? 1.25 : 0.8));
      else onPart(moved(part, all, by > 0 ? 0.1 : -0.1));
    };
    const point = (event: MouseEvent) => tell(svg, percent(event), event, newest.current);
    const leave = () => svg.classList.remove('pointed');
    const resized = new ResizeObserver(() =>
      setMost(Math.min(7, Math.max(1, Math.floor(svg.getBoundingClientRect().width / WORDS)))),
    );
    resized.observe(svg);
    pane.addEventListener('wheel', wheel, { passive: false });
    pane.addEventListener('mousemove', point);
    pane.addEventListener('mouseleave', leave);
    const press = (event: PointerEvent) => drag(svg, event, percent, newest.current);
    svg.addEventListener('pointerdown', press);
    return () => {
      resized.disconnect();
      pane.removeEventListener('wheel', wheel);
      pane.removeEventListener('mousemove', point);
      pane.removeEventListener('mouseleave', leave);
      svg.removeEventListener('pointerdown', press);
    };
  }, []);
  const marks = ticks(part, all.from, most);
  return (
    <svg className="axis num" ref={axis} height="24" aria-hidden="true" onDoubleClick={() => onPart(all)}>
      {marks.map((tick) => {
        const x = at(part, all.from + tick);
        const anchor = x > 93 ? 'end' : x < 4 ? 'start' : 'middle';
        return (
          <text key={tick} className="tick" x={`${x}%`} y="16" textAnchor={anchor}>
            {duration(tick)}
          </text>
        );
      })}
      <rect className="chosen-part" y="0" height="24" />
      <line className="pointer" y1="0" y2="24" />
      <text className="pointer-words" y="16" />
    </svg>
  );
}

interface Newest {
  part: Span;
  all: Span;
  rows: Row[];
  now: number;
  onPart: (part: Span) => void;
}

/** Where the pointer is: the time, and how many jobs ran then. */
function tell(svg: SVGSVGElement, percent: number, event: MouseEvent, { part, all, rows, now }: Newest) {
  const { left, right } = svg.getBoundingClientRect();
  svg.classList.toggle('pointed', event.clientX >= left && event.clientX <= right);
  const moment = momentAt(part, percent);
  const line = svg.querySelector('.pointer');
  line?.setAttribute('x1', `${percent}%`);
  line?.setAttribute('x2', `${percent}%`);
  const words = svg.querySelector('.pointer-words');
  words?.setAttribute('x', `${percent}%`);
  words?.setAttribute('dx', percent > 75 ? '-6' : '6');
  words?.setAttribute('text-anchor', percent > 75 ? 'end' : 'start');
  if (words) words.textContent = `${duration(moment - all.from)}: ${many(ranAt(rows, moment, now), 'job')} ran`;
}

/** How many of the jobs in these rows ran at a moment. */
export function ranAt(rows: Row[], moment: number, now: number): number {
  const jobs = new Set(
    rows.flatMap((row) => (row.kind === 'lane' ? [row.job] : row.kind === 'group' ? row.group.cells : row.jobs)),
  );
  let count = 0;
  for (const job of jobs) {
    const ran = job.attempts.some((attempt) => {
      const end = attempt.ended_at ? Date.parse(attempt.ended_at) : now;
      return Date.parse(attempt.started_at) <= moment && moment <= end;
    });
    if (ran) count += 1;
  }
  return count;
}

function drag(
  svg: SVGSVGElement,
  event: PointerEvent,
  percent: (event: MouseEvent) => number,
  { part, onPart }: Newest,
) {
  const from = percent(event);
  const box = svg.querySelector('.chosen-part');
  svg.setPointerCapture(event.pointerId);
  const move = (moved: PointerEvent) => {
    const to = percent(moved);
    box?.setAttribute('x', `${Math.min(from, to)}%`);
    box?.setAttribute('width', `${Math.abs(to - from)}%`);
  };
  const end = (last: PointerEvent) => {
    svg.removeEventListener('pointermove', move);
    box?.setAttribute('width', '0');
    const to = percent(last);
    if (Math.abs(to - from) >= DRAGGED)
      onPart({ from: momentAt(part, Math.min(from, to)), to: momentAt(part, Math.max(from, to)) });
  };
  svg.addEventListener('pointermove', move);
  svg.addEventListener('pointerup', end, { once: true });
}
