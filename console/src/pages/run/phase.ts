// A phase of an attempt: a step, or what a runner does around the steps.
import type { PhaseView } from '../../api/client';
import type { State } from '../../look/states';

export function phaseState(phase: PhaseView): State {
  if (phase.duration_ms == null) return 'running';
  return phase.failed ? 'failed' : 'passed';
}
