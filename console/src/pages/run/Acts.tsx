// What can be done with a run as a whole: again, stop, allow.
import { Button } from 'antd';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { api, queries, type RunView } from '../../api/client';

/** The same commit once more: what failed within this run, or all of it as a new one. */
export function AgainButtons({ run }: { run: RunView }) {
  const navigate = useNavigate();
  const failed = run.jobs?.some((job) => ['failed', 'lost', 'stopped', 'overtaken', 'refused'].includes(job.state));
  const ask = async (what: { failed?: boolean }) => {
    const params = { path: { project: run.project, number: run.number } };
    const { data } = await api.POST('/api/v1/runs/{project}/{number}/again', { params, body: what });
    queries.invalidateQueries({ queryKey: ['run', run.run] });
    if (data && data.run !== run.run) navigate(`/runs/${data.run}`);
  };
  return (
    <>
      {failed && (
        <Button
          size="small"
          onClick={() => ask({ failed: true })}
          title="Within this run: what failed, and what follows it"
        >
          Failed again
        </Button>
      )}
      <Button size="small" onClick={() => ask({})} title="A new run of the same commit">
        All again
      </Button>
    </>
  );
}

/** A proposal from outside goes on once someone has looked at what it would run here. */
export function AllowButton({ project, number }: { project: string; number: number }) {
  const [asked, setAsked] = useState(false);
  const allow = async () => {
    setAsked(true);
    await api.POST('/api/v1/runs/{project}/{number}/allow', { params: { path: { project, number } } });
    queries.invalidateQueries({ queryKey: ['run', `${project}/${number}`] });
  };
  return (
    <Button
      size="small"
      type="primary"
      disabled={asked}
      onClick={allow}
      title="It comes from outside: look at what it changes before it runs here"
    >
      {asked ? 'Allowing' : 'Allow'}
    </Button>
  );
}

export function StopButton({ project, number }: { project: string; number: number }) {
  const [asked, setAsked] = useState(false);
  const stop = async () => {
    setAsked(true);
    await api.POST('/api/v1/runs/{project}/{number}/stop', { params: { path: { project, number } }, body: {} });
    queries.invalidateQueries({ queryKey: ['run', `${project}/${number}`] });
  };
  return (
    <Button size="small" disabled={asked} onClick={stop}>
      {asked ? 'Stopping' : 'Stop'}
    </Button>
  );
}
