// A person's word on what a job would put into an environment; of an emergency, that it is confirmed.
import { api, done } from '../../api/client';
import { Act } from '../../parts/Act';

interface Props {
  run: string;
  job: string;
  into: string;
  confirms?: boolean;
}

export function Say({ run, job, into, confirms = false }: Props) {
  const [project = '', number] = run.split('/');
  const say = (agrees: boolean, reason = '') =>
    done(
      api.POST('/api/v1/runs/{project}/{number}/approval', {
        params: { path: { project, number: Number(number) } },
        body: { job, agrees, reason: reason || null },
      }),
    );
  const why = [{ key: 'reason', label: 'Why, if you like' }];
  if (confirms)
    return (
      <Act
        name="Confirm"
        label={`Confirm ${run} ${job}`}
        main
        says={`You say that it was right to put ${run} into ${into} past the rules; it stands beside it for good.`}
        fields={why}
        act={async ({ reason }) => {
          await say(true, reason);
          return { words: `You confirmed ${run} ${job}.` };
        }}
      />
    );
  return (
    <span className="buttons">
      <Act
        name="Approve"
        label={`Approve ${run} ${job}`}
        main
        says={`It goes into ${into} as soon as nothing else keeps it out; until it does, refusing it takes your word back.`}
        fields={why}
        act={async ({ reason }) => {
          await say(true, reason);
          return { words: `You approved ${run} ${job}.` };
        }}
      />
      <Act
        name="Refuse"
        label={`Refuse ${run} ${job}`}
        says={`The job ends as refused, and nothing of it goes into ${into}; Again asks anew.`}
        fields={why}
        act={async ({ reason }) => {
          await say(false, reason);
          return { words: `You refused ${run} ${job}.` };
        }}
      />
    </span>
  );
}
