// What is said of a run above everything else: the sentence, and one line of facts.
import { Link } from 'react-router';
import type { RunView } from '../../api/client';
import { Shape } from '../../look/states';
import { When } from '../../parts/When';
import { duration, many, took } from '../../parts/words';

export function Heading({ run, now }: { run: RunView; now: number }) {
  const went = took(run, now);
  return (
    <>
      <h1 className="sentence" id="sentence">
        <Shape state={run.state} label />
        <span>{run.sentence}</span>
      </h1>
      {(run.uncached ?? []).length > 0 && (
        <ul id="uncached" className="soft uncached">
          {run.uncached?.map((one) => (
            <li key={`${one.job} ${one.key} ${one.why}`}>
              {one.job}: cache <span className="code">{one.key}</span>: {one.why}
            </li>
          ))}
        </ul>
      )}
      <div className="facts num">
        <Counts run={run} />
        <span>
          <span className="code">{run.commit.slice(0, 8)}</span> {run.commit_title}
          {run.commit_author && ` · ${run.commit_author}`}
        </span>
        {run.occasion.target && (
          <span>
            {run.occasion.event === 'landing' ? 'lands in' : 'proposed to'} {run.occasion.target}
          </span>
        )}
        {run.occasion.tag && <span>tag {run.occasion.tag}</span>}
        {run.branch && !run.occasion.tag && <span>on {run.branch}</span>}
        <span>{begun(run)}</span>
        {went !== undefined && run.counts.length > 0 && <span>{duration(went)}</span>}
        {run.usual_ms != null && run.counts.length > 0 && <span>usually passes in {duration(run.usual_ms)}</span>}
        {run.time && run.time.runner_ms > 0 && (
          <span title={`critical path: ${run.time.critical.join(' → ')}`}>
            {duration(run.time.runner_ms)} of runners, {duration(run.time.unlimited_ms)} with enough of them
          </span>
        )}
        {saved(run) && <span>{saved(run)}</span>}
        {run.allowed_by && <span>allowed by {run.allowed_by}</span>}
        {run.again_of != null && (
          <span>
            once more of{' '}
            <Link to={`/runs/${run.project}/${run.again_of}`}>
              {run.project}/{run.again_of}
            </Link>
          </span>
        )}
        <span>
          begun <When at={run.created_at} sentence />
        </span>
        {run.pipeline !== 'main' && <span>pipeline {run.pipeline}</span>}
      </div>
    </>
  );
}

/** How many jobs are in each state. */
function Counts({ run }: { run: RunView }) {
  return (
    <span className="counts num">
      {run.counts.map((count) => (
        <span key={count.state} className={`state s-${count.state}`}>
          <Shape state={count.state} /> {count.jobs} {count.state}
        </span>
      ))}
    </span>
  );
}

/** What caches and earlier results spared this run. */
function saved(run: RunView): string | undefined {
  const jobs = run.jobs ?? [];
  const reused = jobs.filter((job) => job.state === 'reused').length;
  const caches = jobs.flatMap((job) => job.attempts.at(-1)?.caches ?? []);
  const restored = caches.filter((cache) => cache.restored).length;
  const parts = [
    reused > 0 && `${many(reused, 'job')} reused`,
    caches.length > 0 && `${restored} of ${caches.length} caches restored`,
  ];
  return parts.filter(Boolean).join(', ') || undefined;
}

/** Who or what began the run. */
function begun({ occasion }: RunView): string {
  const by = occasion.by ?? 'someone';
  const words: Record<RunView['occasion']['event'], string> = {
    push: `pushed by ${by}`,
    tag: `pushed by ${by}`,
    proposal: `offered by ${by}`,
    by_hand: `started by ${by}`,
    schedule: 'by its schedule',
    pipeline: 'since another pipeline passed',
    landing: 'tried before it lands',
    promotion: `${occasion.from} promoted into ${occasion.environment} by ${by}`,
    closing: `${occasion.environment} closed by ${by}`,
    roll_back: `${occasion.environment} rolled back to ${occasion.from} by ${by}`,
  };
  return words[occasion.event];
}
