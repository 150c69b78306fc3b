import { expect, test } from 'vitest';
import type { PhaseView } from '../../../api/client';
import { Heights } from './heights';
import { bottomOf, FOLD, inView, LINE, sectionsOf, topOf } from './sections';

const phase = (name: string, line: number, more: Partial<PhaseView> = {}): PhaseView => ({
  name,
  kind: 'step',
  started_at: '',
  duration_ms: 5,
  failed: false,
  log_from: 0,
  log_line: line,
  ...more,
});
const flat = new Heights(10);

test('the failed step is open, passed ones are folded, and what printed nothing is left out', () => {
  const phases = [phase('checkout', 0, { kind: 'checkout' }), phase('one', 0), phase('two', 40, { failed: true })];
  const sections = sectionsOf(phases, 100, {}, flat);
  expect(sections.map(({ phase, open, first, end }) => [phase.name, open, first, end])).toEqual([
    ['one', false, 0, 40],
    ['two', true, 40, 100],
  ]);
  expect(bottomOf(sections, true, flat)).toBe(2 * FOLD + 60 * LINE);
  // As someone left them.
  expect(sectionsOf(phases, 100, { 1: true, 2: false }, flat).map((section) => section.open)).toEqual([true, false]);
  expect(sectionsOf(undefined, 5, {}, flat)).toHaveLength(1);
  expect(bottomOf(sectionsOf([], 0, {}, flat), true, flat)).toBe(0);
});

test('what is in sight stands without holes where its places say', () => {
  const heights = new Heights(10);
  heights.set(1, [3, 1, 1, 1, 7, 1, 1, 1, 1, 1]);
  const sections = sectionsOf([phase('one', 0, { failed: true }), phase('two', 30, { failed: true })], 60, {}, heights);
  for (const top of [0, 50, 180, 333, 600, 900, 5_000]) {
    const items = inView(sections, { top, height: 200 }, true, heights);
    let at = items[0]?.top;
    for (const item of items) {
      expect(item.top).toBe(at);
      const rows = item.line === undefined ? FOLD : (heights.above(item.line + 1) - heights.above(item.line)) * LINE;
      at = item.top + rows;
    }
  }
  const section = sections[1];
  if (section) expect(topOf(section, 30, true, heights)).toBe(section.top + FOLD);
});

test('of a very long log the last million lines have places', () => {
  const [only] = sectionsOf(undefined, 3_000_000, {}, flat);
  expect([only?.first, only?.end]).toEqual([2_000_000, 3_000_000]);
});
