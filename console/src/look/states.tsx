// The shape of every state, and the state with its word beside it. Shapes are drawn in a 12 px square.
import type { ReactNode } from 'react';
import type { components } from '../api/schema';

export type State = components['schemas']['State'];

const shapes: Record<State, ReactNode> = {
  passed: <rect x="4" y="0" width="4" height="12" />,
  reused: (
    <>
      <rect x="3" y="0" width="2" height="12" />
      <rect x="7" y="0" width="2" height="12" />
    </>
  ),
  failed: <path d="M0 0h12L6 12z" />,
  lost: <path d="M0 0h5.2L3.4 6.8zM7 0h5L6 12 4.4 8.8z" />,
  running: (
    <>
      <rect x="4.5" y="0.5" width="3" height="11" fill="none" stroke="currentColor" />
      <rect className="filling" x="4" y="0" width="4" height="12" />
    </>
  ),
  queued: <rect x="4" y="0.75" width="4" height="10.5" fill="none" stroke="currentColor" strokeWidth="1.5" />,
  waiting: (
    <rect
      x="4"
      y="0.75"
      width="4"
      height="10.5"
      fill="none"
      stroke="currentColor"
      strokeWidth="1.5"
      strokeDasharray="1.5 1.7"
    />
  ),
  gated: (
    <>
      <rect x="4" y="0.75" width="4" height="10.5" fill="none" stroke="currentColor" strokeWidth="1.5" />
      <rect x="0" y="4.5" width="12" height="3" />
    </>
  ),
  skipped: <rect x="3" y="5" width="6" height="2" />,
  stopped: <rect x="3" y="3" width="6" height="6" />,
  refused: <path d="M1 2.4 2.4 1 6 4.6 9.6 1 11 2.4 7.4 6 11 9.6 9.6 11 6 7.4 2.4 11 1 9.6 4.6 6z" />,
  overtaken: <path d="M4 0h4v5L4 7.5zM4 9l4-2.5V12H4z" />,
};

export function Shape({ state, label }: { state: State; label?: boolean }) {
  const told = label ? { role: 'img', 'aria-label': state } : { 'aria-hidden': true };
  return (
    // biome-ignore lint/a11y/noSvgWithoutTitle: it is labelled or hidden by what is spread
    <svg className={`shape s-${state}`} viewBox="0 0 12 12" fill="currentColor" {...told}>
      {shapes[state]}
    </svg>
  );
}

export function StateWord({ state }: { state: State }) {
  return (
    <span className={`state s-${state}`}>
      <Shape state={state} />
      {state}
    </span>
  );
}

export function isEnd(state: State): boolean {
  return !['waiting', 'gated', 'queued', 'running'].includes(state);
}
