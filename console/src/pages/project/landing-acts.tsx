// What can be done with a proposal that is to land: asked for, held, put first, taken out.
import { api, done, type Schemas, useMay } from '../../api/client';
import { Act } from '../../parts/Act';

const step = (project: string, proposal: string, what: Schemas['LandingStep']) =>
  done(
    api.POST('/api/v1/projects/{project}/proposals/{proposal}/landing', {
      params: { path: { project, proposal } },
      body: { what },
    }),
  );

/** Where it stands then, in a sentence. */
function standing(view: Schemas['LandingView'] | undefined, proposal: string): string {
  const entry = view?.branches.flatMap((branch) => branch.entries).find((one) => one.proposal === proposal);
  return entry ? `${proposal} stands at place ${entry.place} and ${entry.sentence}.` : `${proposal} is asked to land.`;
}

/** What someone can do with a proposal that is open. */
export function ProposalActs({ project, one }: { project: string; one: Schemas['ProposalView'] }) {
  const operator = useMay('operator', project);
  const reader = useMay('reader', project);
  return (
    <div className="say before">
      <Land project={project} number={one.number} target={one.target} />
      {reader && <Review project={project} one={one} approves />}
      {reader && <Review project={project} one={one} approves={false} />}
      {/* What a forge offers is taken back there. */}
      {operator && !one.link && <Withdraw project={project} number={one.number} />}
    </div>
  );
}

/** One's word on its newest commit. */
function Review({ project, one, approves }: { project: string; one: Schemas['ProposalView']; approves: boolean }) {
  const review = (word: boolean | null) =>
    done(
      api.PUT('/api/v1/projects/{project}/proposals/{proposal}/review', {
        params: { path: { project, proposal: one.number } },
        body: { approves: word, commit: one.commit },
      }),
    );
  const short = one.commit.slice(0, 8);
  return (
    <Act
      name={approves ? 'Approve' : 'Refuse'}
      label={`${approves ? 'Approve' : 'Refuse'} ${one.number}`}
      says={
        approves
          ? `Your approval of ${short} counts where the rules of ${one.target} want one; a newer commit needs it anew.`
          : `It does not land while your refusal of ${short} stands; a newer commit is asked about anew.`
      }
      act={async () => {
        await review(approves);
        const words = `You ${approves ? 'approve' : 'refuse'} ${one.number} at ${short}.`;
        return { words, undo: () => review(null) };
      }}
    />
  );
}

function Withdraw({ project, number }: { project: string; number: string }) {
  return (
    <Act
      name="Withdraw"
      label={`Withdraw ${number}`}
      says={`${number} is offered no more and leaves the queue; its branch and its runs stay, and it can be offered again under another number.`}
      act={async () => {
        const params = { path: { project, proposal: number } };
        await done(api.DELETE('/api/v1/projects/{project}/proposals/{proposal}', { params }));
        return { words: `${number} is withdrawn.` };
      }}
    />
  );
}

function Land({ project, number, target }: { project: string; number: string; target: string }) {
  if (!useMay('operator', project)) return null;
  return (
    <Act
      name="Land"
      label={`Land ${number}`}
      main
      says={`It joins the queue of ${target}: it is tested on top of those ahead of it, and what was tested lands by itself once all that is wanted is there.`}
      act={async () => {
        const view = await step(project, number, 'land');
        return { words: standing(view, number), undo: () => step(project, number, 'leave') };
      }}
    />
  );
}

export function QueueActs({ project, entry }: { project: string; entry: Schemas['LandingEntry'] }) {
  if (!useMay('operator', project)) return null;
  const { proposal } = entry;
  const held = entry.sentence.startsWith('is held');
  const hold = { what: 'hold', name: 'Hold', says: 'It keeps its place and is not tried.', told: 'is held' } as const;
  const release = { what: 'release', name: 'Release', says: 'It is tried again.', told: 'is tried again' } as const;
  const [now, other] = held ? [release, hold] : [hold, release];
  return (
    <div className="buttons">
      <Act
        name={now.name}
        label={`${now.name} ${proposal}`}
        says={now.says}
        atOnce
        act={async () => {
          await step(project, proposal, now.what);
          return { words: `${proposal} ${now.told}.`, undo: () => step(project, proposal, other.what) };
        }}
      />
      <Act
        name="First"
        label={`First ${proposal}`}
        says={`${proposal} is put before those that nobody put first; what is being tested on top of the old order is tested anew.`}
        act={async () => {
          await step(project, proposal, 'first');
          return { words: `${proposal} goes first.` };
        }}
      />
      <Act
        name="Leave"
        label={`Leave ${proposal}`}
        says={`${proposal} leaves the queue and does not land; those behind it are tested without it. Land puts it at the end again.`}
        act={async () => {
          await step(project, proposal, 'leave');
          return { words: `${proposal} left the queue.`, undo: () => step(project, proposal, 'land') };
        }}
      />
    </div>
  );
}
