// A person's word on what a job would put into an environment; of an emergency, that it is confirmed.
import { Button, Input } from 'antd';
import { useState } from 'react';
import { api, queries } from '../../api/client';

export function Say({ run, job, confirms = false }: { run: string; job: string; confirms?: boolean }) {
  const [reason, setReason] = useState('');
  const [told, setTold] = useState<string>();
  const [project = '', number] = run.split('/');
  const say = async (agrees: boolean) => {
    const { error } = await api.POST('/api/v1/runs/{project}/{number}/approval', {
      params: { path: { project, number: Number(number) } },
      body: { job, agrees, reason: reason || null },
    });
    setTold((error as { detail?: string } | undefined)?.detail);
    queries.invalidateQueries();
  };
  return (
    <div className="say">
      <Input
        size="small"
        placeholder="why, if you like"
        aria-label={`Reason for ${run} ${job}`}
        value={reason}
        onChange={(event) => setReason(event.target.value)}
      />
      <Button
        size="small"
        type="primary"
        aria-label={`${confirms ? 'Confirm' : 'Approve'} ${run} ${job}`}
        onClick={() => say(true)}
      >
        {confirms ? 'Confirm' : 'Approve'}
      </Button>
      {!confirms && (
        <Button size="small" aria-label={`Refuse ${run} ${job}`} onClick={() => say(false)}>
          Refuse
        </Button>
      )}
      <span role="status" className="soft">
        {told}
      </span>
    </div>
  );
}
