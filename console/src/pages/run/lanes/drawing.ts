// The lanes as a drawing of their own, to be kept or sent: SVG with everything in it, in the colours of the page.
import type { JobView } from '../../../api/client';
import { marks, type State, toneOf } from '../../../look/marks';
import { duration } from '../../../parts/words';
import { cellOf, stateOf } from './groups';
import { HEIGHT, type Row, tookOf } from './rows';
import { segmentsOf, wholesOf } from './segments';
import { at, type Span, ticks } from './time';

const NAMES = 240;
const WIDTH = 1280;
const TRACKS = WIDTH - NAMES - 24;
const TOP = 72;

export interface Drawn {
  title: string;
  sentence: string;
  rows: Row[];
  part: Span;
  begin: number;
  now: number;
  ready: (job: JobView) => number;
  /** A colour of the page's palette, by its name. */
  colour: (name: string) => string;
}

export const escaped = (text: string) =>
  text.replaceAll('&', '&amp;').replaceAll('<', '&lt;').replaceAll('>', '&gt;').replaceAll('"', '&quot;');

export function drawing(drawn: Drawn): string {
  const { title, sentence, rows, part, begin, colour } = drawn;
  const height = TOP + rows.reduce((sum, row) => sum + HEIGHT[row.kind], 0) + 24;
  const x = (moment: number) => (NAMES + (TRACKS * at(part, moment)) / 100).toFixed(1);
  const out = [
    `<svg xmlns="http://www.w3.org/2000/svg" width="${WIDTH}" height="${height}" viewBox="0 0 ${WIDTH} ${height}" font-family="system-ui, sans-serif" font-size="13">`,
    `<title>${escaped(title)}: ${escaped(sentence)}</title>`,
    `<rect width="${WIDTH}" height="${height}" fill="${colour('ground')}"/>`,
    `<text x="16" y="28" font-size="16" font-weight="600" fill="${colour('ink')}">${escaped(title)}</text>`,
    `<text x="16" y="48" fill="${colour('soft')}">${escaped(sentence)}</text>`,
  ];
  for (const tick of ticks(part, begin)) {
    const place = x(begin + tick);
    out.push(
      `<line x1="${place}" y1="${TOP - 8}" x2="${place}" y2="${height - 16}" stroke="${colour('rule')}"/>`,
      `<text x="${place}" y="${TOP - 12}" font-size="11" text-anchor="middle" fill="${colour('soft')}">${duration(tick)}</text>`,
    );
  }
  let top = TOP;
  for (const row of rows) {
    out.push(...rowDrawn(row, top, drawn, x));
    top += HEIGHT[row.kind];
  }
  return `${out.join('\n')}\n</svg>\n`;
}

function rowDrawn(row: Row, top: number, { now, ready, colour }: Drawn, x: (moment: number) => string): string[] {
  const name = (text: string, left: number, tone = 'ink', weight = 400) =>
    `<text x="${left}" y="${top + 18}" font-weight="${weight}" fill="${colour(tone)}">${escaped(text)}</text>`;
  const shape = (state: State, left: number) =>
    `<g transform="translate(${left} ${top + 8})" fill="${colour(toneOf(state))}" stroke="none" color="${colour(toneOf(state))}">${marks[state]}</g>`;
  const bar = (from: number, to: number, tone: string, faint: number, y = 8, high = 12) => {
    const width = Math.max(1, Number(x(to)) - Number(x(from)));
    return `<rect x="${x(from)}" y="${top + y}" width="${width.toFixed(1)}" height="${high}" fill="${colour(tone)}" fill-opacity="${faint}"/>`;
  };
  if (row.kind === 'stage') return [name(row.name, 16, 'soft', 600), ...(row.open === 'all' ? [] : wholes(row.jobs))];
  if (row.kind === 'others') return [name(`and ${row.jobs.length} more`, 40, 'soft')];
  if (row.kind === 'group') {
    const { group } = row;
    return [
      shape(stateOf(group.cells), 28),
      name(`${group.name}  ${group.cells.length} cells`, 48),
      ...(row.open ? [] : wholes(group.cells)),
    ];
  }
  const { job } = row;
  const left = row.cell ? 56 : 28;
  const faint = { wait: 0.15, pale: 0.4, step: 1, bad: 1, late: 0.6, whole: 0.6 };
  const segments = segmentsOf(job, ready(job), now);
  const end = segments.reduce((most, one) => Math.max(most, one.to), 0);
  return [
    shape(job.state, left),
    name(row.cell ? cellOf(job.id) : job.id, left + 20),
    ...segments.map((one) => bar(one.from, one.to, one.kind === 'bad' ? 'failed' : toneOf(one.state), faint[one.kind])),
    ...(end > 0
      ? [
          `<text x="${Number(x(end)) + 6}" y="${top + 18}" font-size="12" fill="${colour('soft')}">${duration(tookOf(job, now))}</text>`,
        ]
      : []),
  ];

  function wholes(jobs: JobView[]): string[] {
    return wholesOf(jobs, now).map((one) => bar(one.from, one.to, toneOf(one.state), 0.6, 11, 6));
  }
}
