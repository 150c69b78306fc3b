// What can be done with a run as a whole, or with one of its jobs: again, stop, allow, start; and of a job that would put
// something into an environment, one's word on it, or past the rules.
import { useNavigate } from 'react-router';
import { api, done, type JobView, type RunView, useMay } from '../../api/client';
import { stopRun } from '../../api/stop';
import { isEnd } from '../../look/states';
import { Act } from '../../parts/Act';
import { many } from '../../parts/words';
import { Say } from '../delivery/Say';
import { useNeeds } from '../delivery/useNeeds';

const bad = ['failed', 'lost', 'stopped', 'overtaken', 'refused'];
const path = (run: RunView) => ({ params: { path: { project: run.project, number: run.number } } });

/** The same commit once more: what failed within this run, or all of it as a new one. */
export function AgainButtons({ run }: { run: RunView }) {
  const navigate = useNavigate();
  if (!useMay('operator', run.project)) return null;
  const failed = (run.jobs ?? []).filter((job) => bad.includes(job.state));
  const again = (failed: boolean) =>
    done(api.POST('/api/v1/runs/{project}/{number}/again', { ...path(run), body: failed ? { failed } : {} }));
  return (
    <>
      {failed.length > 0 && (
        <Act
          name="Failed again"
          says={`Within this run, ${many(failed.length, 'job')} that did not pass and what follows is done once more; what passed stays.`}
          act={async () => {
            await again(true);
            return { words: `${run.run}: what did not pass is done again.` };
          }}
        />
      )}
      <Act
        name="All again"
        says={`A new run of the same commit ${run.commit.slice(0, 8)} begins, with the same inputs; this one stays as it is.`}
        act={async () => {
          const made = await again(false);
          if (made && made.run !== run.run) navigate(`/runs/${made.run}`);
          return { words: `${made?.run ?? 'A run'} has begun.`, undo: made && (() => stopRun(made.run)) };
        }}
      />
    </>
  );
}

/** A proposal from outside goes on once someone has looked at what it would run here. */
export function AllowButton({ project, number }: { project: string; number: number }) {
  if (!useMay('operator', project)) return null;
  return (
    <Act
      name="Allow"
      label={`Allow ${project}/${number}`}
      main
      says="Its jobs run here as the proposal writes them, this commit and no later one; look at what it changes first. A stop is the only way back."
      act={async () => {
        await done(api.POST('/api/v1/runs/{project}/{number}/allow', { params: { path: { project, number } } }));
        return { words: `${project}/${number} goes on.`, undo: () => stopRun(`${project}/${number}`) };
      }}
    />
  );
}

export function StopButton({ run }: { run: RunView }) {
  if (!useMay('operator', run.project)) return null;
  return (
    <Act
      name="Stop"
      says="Jobs that run are ended, what has not begun does not begin, and a job that deploys is left to end by itself; All again begins it anew."
      act={async () => {
        await stopRun(run.run);
        return { words: `${run.run} is stopping.` };
      }}
    />
  );
}

/** What can be asked of a job. */
export function JobActs({ run, job }: { run: RunView; job: JobView }) {
  const operator = useMay('operator', run.project);
  const needs = useNeeds();
  const asked = needs.data?.find((need) => need.run === run.run && need.job === job.id && need.kind !== 'allow');
  const waits = job.state === 'gated';
  return (
    <>
      {asked && <Say run={run.run} job={job.id} into={job.deploys ?? ''} confirms={asked.kind === 'confirmation'} />}
      {operator && waits && job.by_hand && !job.started_by && <Start run={run} job={job} />}
      {operator && waits && job.deploys && <Emergency run={run} job={job} into={job.deploys} />}
      {operator && isEnd(job.state) && (
        <Act
          name="Again"
          label={`Again: ${job.id}`}
          says="This job and what follows it are done once more, within this run."
          act={async () => {
            await done(api.POST('/api/v1/runs/{project}/{number}/again', { ...path(run), body: { jobs: [job.id] } }));
            return { words: `${job.id} is done again.` };
          }}
        />
      )}
    </>
  );
}

function Start({ run, job }: { run: RunView; job: JobView }) {
  return (
    <Act
      name="Start"
      label={`Start ${job.id}`}
      main
      says={`It begins as soon as what it waits for has passed${job.deploys ? `, and puts what it takes into ${job.deploys}` : ''}; what follows it goes on with it.`}
      act={async () => {
        await done(api.POST('/api/v1/runs/{project}/{number}/start', { ...path(run), body: { job: job.id } }));
        return { words: `${job.id} is started.` };
      }}
    />
  );
}

function Emergency({ run, job, into }: { run: RunView; job: JobView; into: string }) {
  return (
    <Act
      name="Emergency"
      label={`Emergency: ${job.id}`}
      says={`It goes into ${into} past approvals, hours and frost; everybody who could have approved it is told, and someone else has to confirm it. It cannot be taken back.`}
      fields={[{ key: 'reason', label: 'Why it is one: everybody reads it', needed: true }]}
      act={async ({ reason }) => {
        const body = { job: job.id, reason: reason ?? '' };
        await done(api.POST('/api/v1/runs/{project}/{number}/emergency', { ...path(run), body }));
        return { words: `${job.id} goes into ${into} past the rules; someone else has to confirm it.` };
      }}
    />
  );
}
