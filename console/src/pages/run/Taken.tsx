// What a job took from others and from its caches.
import { Link } from 'react-router';
import type { JobView, PlanView } from '../../api/client';
import { bytes, duration, many } from '../../parts/words';

export function Taken({ job, plan }: { job: JobView; plan: PlanView | undefined }) {
  const takes = plan?.jobs.find((planned) => planned.id === job.id)?.takes ?? [];
  return (
    <div className="panel-body">
      {takes.length === 0 && <p className="soft">This job takes nothing from others.</p>}
      <ul className="code plain">
        {takes.map((take) => (
          <li key={take}>{take}</li>
        ))}
      </ul>
      <Caches job={job} />
    </div>
  );
}

/** What was restored and saved, how much of it, and how long that took. */
function Caches({ job }: { job: JobView }) {
  const caches = job.attempts.at(-1)?.caches ?? [];
  if (caches.length === 0) return null;
  return (
    <>
      <h3>Caches</h3>
      <ul className="plain">
        {caches.map((cache) => (
          <li key={cache.key}>
            <span className="code">{cache.key}</span>
            {cache.restored && (
              <div className="soft num">
                restored from <Link to={`/runs/${cache.from}`}>{cache.from}</Link>
                {cache.restored !== cache.key && `, nearest is ${cache.restored}`}: {many(cache.files ?? 0, 'file')},{' '}
                {bytes(cache.bytes)} in {duration(cache.restore_ms)}, {bytes(cache.fetched_bytes)} fetched
              </div>
            )}
            {cache.saved && (
              <div className="soft num">
                saved {many(cache.saved_files ?? 0, 'file')}, {bytes(cache.saved_bytes)} in {duration(cache.save_ms)},{' '}
                {bytes(cache.sent_bytes)} of it new to the store
              </div>
            )}
            {cache.notices.map((notice) => (
              <div key={notice} className="soft">
                {notice}
              </div>
            ))}
          </li>
        ))}
      </ul>
    </>
  );
}
