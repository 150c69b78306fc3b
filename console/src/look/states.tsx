// The shape of a state, and the state with its word beside it.
import { marks, type State } from './marks';

export type { State } from './marks';

export function Shape({ state, label }: { state: State; label?: boolean }) {
  const told = label ? { role: 'img', 'aria-label': state } : { 'aria-hidden': true };
  return (
    <svg
      className={`shape s-${state}`}
      viewBox="0 0 12 12"
      fill="currentColor"
      // biome-ignore lint/security/noDangerouslySetInnerHtml: drawings of our own, the same for exported pictures
      dangerouslySetInnerHTML={{ __html: marks[state] }}
      {...told}
    />
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
