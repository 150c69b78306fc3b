// Keeping what was drafted: what is other than on the main branch, and where it goes: as a branch, offered at once if one
// likes; or in the service, in place of the repository's file.
import { structuredPatch } from 'diff';
import { useMemo, useState } from 'react';
import { Link } from 'react-router';
import { answered, api, type Schemas, useMay } from '../../api/client';
import { Dialog } from '../../parts/Dialog';
import { wordsOf } from '../../parts/said';
import { many } from '../../parts/words';

interface Props {
  project: string;
  pipeline: string;
  path: string;
  given: Schemas['PipelineView'] | undefined;
  text: string;
  onClose: () => void;
}

interface Kept {
  words: string;
  branch?: string;
  commit?: string;
  /** The proposal that was made of it. */
  proposal?: string;
  /** Why none was. */
  not?: string;
}

export function Keep({ project, pipeline, path, given, text, onClose }: Props) {
  const isRules = pipeline === 'rules';
  const may = useMay('editor', project) && !isRules;
  const [where, setWhere] = useState<'branch' | 'here'>(given?.version != null ? 'here' : 'branch');
  const [branch, setBranch] = useState(`draft/${pipeline}`);
  const [message, setMessage] = useState('');
  const [offer, setOffer] = useState(true);
  const [wrong, setWrong] = useState<string>();
  const [kept, setKept] = useState<Kept>();
  const keep = async () => {
    setWrong(undefined);
    try {
      if (where === 'here') setKept(await keepHere(project, pipeline, given, text, message));
      else setKept(await keepBranch({ project, pipeline, given, text, branch, message, offer }));
    } catch (error) {
      setWrong(wordsOf(error));
    }
  };
  if (kept) return <Told project={project} kept={kept} onClose={onClose} />;
  return (
    <Dialog label="Keep the draft" className="ask keep" onClose={onClose}>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          void keep();
        }}
      >
        <h2>Keep the draft</h2>
        <Difference path={path} before={given?.text ?? ''} now={text} />
        {may && (
          <div className="words">
            {(
              [
                ['branch', 'as a branch of the repository'],
                ['here', "in the service, in place of the repository's file"],
              ] as const
            ).map(([key, word]) => (
              <button key={key} type="button" aria-pressed={where === key} onClick={() => setWhere(key)}>
                {word}
              </button>
            ))}
          </div>
        )}
        {where === 'branch' && (
          <div className="ask-field">
            <label htmlFor="draft-branch">Branch</label>
            <input
              id="draft-branch"
              className="field"
              required
              value={branch}
              onChange={(event) => setBranch(event.target.value)}
            />
          </div>
        )}
        <div className="ask-field">
          <label htmlFor="draft-message">What the change is for</label>
          <input
            id="draft-message"
            className="field"
            required
            value={message}
            onChange={(event) => setMessage(event.target.value)}
          />
        </div>
        {where === 'branch' && (
          <label>
            <input type="checkbox" checked={offer} onChange={(event) => setOffer(event.target.checked)} /> offer it to
            the main branch as a proposal
          </label>
        )}
        {wrong && (
          <p className="s-failed" role="alert">
            {wrong}
          </p>
        )}
        <div className="buttons">
          <button type="submit" className="act main" disabled={!branch.trim() || !message.trim()}>
            Keep
          </button>
          <button type="button" className="act" onClick={onClose}>
            Not now
          </button>
        </div>
      </form>
    </Dialog>
  );
}

async function keepHere(
  project: string,
  pipeline: string,
  given: Schemas['PipelineView'] | undefined,
  text: string,
  message: string,
): Promise<Kept> {
  const params = { path: { project, pipeline } };
  const body = { text, message, on: given?.version ?? 0 };
  const made = await answered(api.PUT('/api/v1/projects/{project}/stored/{pipeline}', { params, body }));
  return { words: `Kept by the service as version ${made.version}; it counts from the next run on.` };
}

async function keepBranch(of: {
  project: string;
  pipeline: string;
  given: Schemas['PipelineView'] | undefined;
  text: string;
  branch: string;
  message: string;
  offer: boolean;
}): Promise<Kept> {
  const { project, pipeline, given, text, branch, message, offer } = of;
  const params = { path: { project } };
  const body = { pipeline, text, branch, message, from: given?.commit || undefined };
  const made = await answered(api.POST('/api/v1/projects/{project}/drafts', { params, body }));
  const kept = { words: 'Kept as', branch: made.branch, commit: made.commit };
  if (!offer) return kept;
  try {
    const ask = { source: made.branch, title: message, draft: false };
    const proposal = await answered(api.POST('/api/v1/projects/{project}/proposals', { params, body: ask }));
    return { ...kept, proposal: proposal.number };
  } catch (error) {
    return { ...kept, not: wordsOf(error) };
  }
}

function Told({ project, kept, onClose }: { project: string; kept: Kept; onClose: () => void }) {
  return (
    <Dialog label="The draft is kept" className="ask" onClose={onClose}>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          onClose();
        }}
      >
        <h2>The draft is kept</h2>
        <p>
          {kept.words}{' '}
          {kept.branch && (
            <>
              <span className="code">{kept.commit?.slice(0, 8)}</span> on the branch{' '}
              <span className="code">{kept.branch}</span>.
            </>
          )}{' '}
          {kept.proposal && (
            <>
              It is offered:{' '}
              <Link to={`/projects/${project}/proposals/${kept.proposal}`}>proposal {kept.proposal}</Link>.
            </>
          )}
          {kept.not && `It is not offered: ${kept.not}`}
        </p>
        <div className="buttons">
          <button type="submit" className="act main">
            Close
          </button>
        </div>
      </form>
    </Dialog>
  );
}

/** What is other than on the main branch, with the lines around it. */
function Difference({ path, before, now }: { path: string; before: string; now: string }) {
  const parts = useMemo(
    () => structuredPatch(path, path, before, now, '', '', { context: 2 }).hunks,
    [path, before, now],
  );
  const lines = parts.flatMap((part) => part.lines);
  const count = (sign: string) => lines.filter((line) => line.startsWith(sign)).length;
  return (
    <>
      <p className="soft">
        {before === '' ? `${path} is new` : `${path}, beside the main branch`}: {many(count('+'), 'line')} come,{' '}
        {many(count('-'), 'line')} go
      </p>
      {/* biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls is reached by the keyboard */}
      <pre className="source changed" tabIndex={0}>
        {parts.map((part) => (
          <span key={part.newStart}>
            {part.lines.map((line, at) => (
              <span
                // biome-ignore lint/suspicious/noArrayIndexKey: lines of a difference have no other name, and do not move
                key={`${part.newStart + at} ${line}`}
                className={line.startsWith('+') ? 'come' : line.startsWith('-') ? 'gone' : undefined}
              >
                {line}
                {'\n'}
              </span>
            ))}
          </span>
        ))}
      </pre>
    </>
  );
}
