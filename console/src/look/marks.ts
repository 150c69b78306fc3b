// The shape of every state, as markup: for the page, and for drawings that leave it. Drawn in a 12 px square, in the
// current colour.
import type { components } from '../api/schema';

export type State = components['schemas']['State'];

const outline = 'fill="none" stroke="currentColor"';

export const marks: Record<State, string> = {
  passed: '<rect x="4" width="4" height="12"/>',
  reused: '<rect x="3" width="2" height="12"/><rect x="7" width="2" height="12"/>',
  failed: '<path d="M0 0h12L6 12z"/>',
  lost: '<path d="M0 0h5.2L3.4 6.8zM7 0h5L6 12 4.4 8.8z"/>',
  running: `<rect x="4.5" y="0.5" width="3" height="11" ${outline}/><rect class="filling" x="4" width="4" height="12"/>`,
  queued: `<rect x="4" y="0.75" width="4" height="10.5" ${outline} stroke-width="1.5"/>`,
  waiting: `<rect x="4" y="0.75" width="4" height="10.5" ${outline} stroke-width="1.5" stroke-dasharray="1.5 1.7"/>`,
  gated: `<rect x="4" y="0.75" width="4" height="10.5" ${outline} stroke-width="1.5"/><rect y="4.5" width="12" height="3"/>`,
  skipped: '<rect x="3" y="5" width="6" height="2"/>',
  stopped: '<rect x="3" y="3" width="6" height="6"/>',
  refused: '<path d="M1 2.4 2.4 1 6 4.6 9.6 1 11 2.4 7.4 6 11 9.6 9.6 11 6 7.4 2.4 11 1 9.6 4.6 6z"/>',
  overtaken: '<path d="M4 0h4v5L4 7.5zM4 9l4-2.5V12H4z"/>',
};

/** The name in the palette of a state's colour. */
export function toneOf(state: State): 'passed' | 'failed' | 'running' | 'gated' | 'quiet' {
  if (state === 'passed' || state === 'reused') return 'passed';
  if (state === 'failed' || state === 'lost') return 'failed';
  if (state === 'running') return 'running';
  return state === 'gated' || state === 'refused' ? 'gated' : 'quiet';
}
