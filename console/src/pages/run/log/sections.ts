// A log cut at its phases, and what of it is in sight. All places are in pixels, counted from the log's top.
import type { PhaseView } from '../../../api/client';
import { phaseState } from '../phase';
import type { Heights } from './heights';

/** What browsers can scroll through at this height of a line; of a longer log the last lines are shown. */
export const MOST_LINES = 1_000_000;
export const LINE = 17;
export const FOLD = 24;

/** A phase's part of the log, and where it begins. */
export type Section = { phase: PhaseView; at: number; first: number; end: number; open: boolean; top: number };
export type Item = { key: string; top: number; section: Section; line: number | undefined };

/** The failed and the running step are open, others folded; those that someone folded or opened are as they left them. */
export function sectionsOf(
  phases: PhaseView[] | undefined,
  total: number | undefined,
  toggled: Record<number, boolean>,
  heights: Heights,
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
    top += FOLD + (open ? heightOf(first, end, heights) : 0);
  });
  return sections;
}

const heightOf = (first: number, end: number, heights: Heights) => (heights.above(end) - heights.above(first)) * LINE;

/** Where the last section ends. */
export function bottomOf(sections: Section[], folds: boolean, heights: Heights): number {
  const last = sections.at(-1);
  if (!last) return 0;
  return last.top + (folds ? FOLD : 0) + (last.open ? heightOf(last.first, last.end, heights) : 0);
}

/** Where a line of a section begins. */
export function topOf(section: Section, line: number, folds: boolean, heights: Heights): number {
  return section.top + (folds ? FOLD : 0) + heightOf(section.first, line, heights);
}

/** Folds and lines in sight, and a little around. */
export function inView(
  sections: Section[],
  view: { top: number; height: number },
  folds: boolean,
  heights: Heights,
): Item[] {
  const [from, to] = [view.top - 20 * LINE, view.top + view.height + 20 * LINE];
  const items: Item[] = [];
  for (const section of sections) {
    if (section.top > to) break;
    const begin = section.top + (folds ? FOLD : 0);
    if (folds && begin >= from) items.push({ key: `fold ${section.at}`, top: section.top, section, line: undefined });
    if (!section.open || section.first === section.end) continue;
    const above = heights.above(section.first);
    const lineAt = (place: number) => heights.lineAt(above + Math.max(0, (place - begin) / LINE));
    const first = Math.max(section.first, lineAt(from));
    const end = Math.min(section.end, lineAt(to) + 1);
    if (to < begin) continue;
    for (let line = first; line < end; line += 1)
      items.push({ key: `${line}`, top: topOf(section, line, folds, heights), section, line });
  }
  return items;
}
