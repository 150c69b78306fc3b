// Why a job is as it is, and what it waits for.
import type { JobView, PlanView } from '../../api/client';

const reasons: Record<string, string> = {
  takes: 'takes what it gives',
  after: 'the file says it comes after it',
  order: 'the order puts its stage earlier',
  at_once: 'only so many cells run at once',
  rollout: 'the roll-out reaches it after that one is well',
};

export function Why({ job, plan }: { job: JobView; plan: PlanView | undefined }) {
  const waits = plan?.jobs.find((planned) => planned.id === job.id)?.waits_for ?? [];
  return (
    <div className="panel-body">
      <p>{job.why ?? 'Everything it waited for ended well, and so did it.'}</p>
      {waits.length === 0 ? (
        <p className="soft">It waits for no other job.</p>
      ) : (
        <table className="steps">
          <tbody>
            {waits.map((wait) => (
              <tr key={wait.job}>
                <td>waits for {wait.job}</td>
                <td className="soft">
                  {reasons[wait.because]}
                  {wait.implied && ' (others imply it)'}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </div>
  );
}
