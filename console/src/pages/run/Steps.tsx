// What an attempt did, one after the other, with how long each took.
import type { Schemas } from '../../api/client';
import { Shape } from '../../look/states';
import { duration, time } from '../../parts/words';
import { phaseState } from './phase';

export function Steps({ attempt, now }: { attempt: Schemas['AttemptView'] | undefined; now: number }) {
  if (!attempt || attempt.phases.length === 0)
    return <p className="panel-body soft">Its steps are listed here once a runner has begun them.</p>;
  return (
    <div className="panel-body scroll">
      <table className="steps">
        <tbody>
          {attempt.phases.map((phase) => (
            <tr key={`${phase.kind}${phase.name}${phase.started_at}`}>
              <td>
                <Shape state={phaseState(phase)} label />
              </td>
              <td className="soft">{phase.kind}</td>
              <td className={phase.kind === 'step' ? 'code' : ''}>{phase.name}</td>
              <td className="took num">{duration(phase.duration_ms ?? now - time(phase.started_at))}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
