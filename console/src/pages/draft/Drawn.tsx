// The file's picture with the form of the chosen job below it. A change goes through the editor, so that the text and the
// picture are always two views of one file, and one undo goes over both.
import type { EditorView } from '@codemirror/view';
import { useMemo, useRef, useState } from 'react';
import type { Schemas } from '../../api/client';
import { useActs } from '../../parts/acts';
import { Dialog } from '../../parts/Dialog';
import { doAgain, edit, takeBack } from './edits';
import { JobForm } from './picture/JobForm';
import type { Outline } from './picture/layout';
import { type Edit, Picture } from './picture/Picture';

interface Props {
  checked: Schemas['CheckView'] | undefined;
  /** Whether what was checked is the text as it is now. */
  isNow: boolean;
  editor: EditorView | null;
  diagnostics: Schemas['DiagnosticView'][];
}

export function Drawn({ checked, isNow, editor, diagnostics }: Props) {
  const [chosen, setChosen] = useState<string>();
  const [adding, setAdding] = useState<string>();
  const last = useRef<Outline>(undefined);
  if (checked?.outline) last.current = checked.outline;
  const outline = last.current;
  const wrong = useMemo(() => wrongOf(outline, diagnostics), [outline, diagnostics]);
  useActs('Draft', [
    { name: 'Undo, in text and picture', key: 'z', run: () => takeBack(editor) },
    { name: 'Redo', key: 'y', run: () => doAgain(editor) },
    { name: 'Add a job', key: 'a', run: () => setAdding(chosen?.split('.')[0] ?? outline?.stages[0]?.name ?? '') },
  ]);
  if (!checked || !outline) return <p className="empty">The picture is drawn once the text is TOML.</p>;
  const stale = !checked.outline;
  const change = async (wanted: Edit, follow?: string) => {
    // A picture of an earlier text would change another one than is meant.
    if (!editor || stale) return;
    if (await edit(editor, wanted)) {
      if (follow) setChosen(follow);
      else if (wanted.what === 'rename_job' && wanted.job === chosen) setChosen(wanted.to);
    }
  };
  const job = outline.stages.flatMap((stage) => stage.jobs).find((one) => one.job === chosen);
  const show = (line: number) => {
    if (!editor || line > editor.state.doc.lines) return;
    const { from } = editor.state.doc.line(line);
    editor.dispatch({ selection: { anchor: from }, scrollIntoView: true });
    editor.focus();
  };
  return (
    <div className="picture-half" aria-busy={!isNow}>
      <div className="bar">
        <button type="button" className="act" onClick={() => setAdding('')}>
          Add a stage
        </button>
        <button type="button" className="act" onClick={() => takeBack(editor)}>
          Undo
        </button>
        <button type="button" className="act" onClick={() => doAgain(editor)}>
          Redo
        </button>
        <span className="soft">
          {stale
            ? 'the text is no TOML now: mend it, and the picture goes on'
            : 'drag to move; from a job’s right edge to connect'}
        </span>
      </div>
      <div className={stale ? 'drawn stale' : 'drawn'}>
        <Picture
          outline={outline}
          wrong={wrong}
          chosen={chosen}
          onChoose={setChosen}
          onEdit={(wanted) => void change(wanted)}
          onAdd={setAdding}
        />
      </div>
      {job && (
        <JobForm
          key={job.job}
          outline={outline}
          job={job}
          onEdit={(wanted, follow) => void change(wanted, follow)}
          onShow={show}
        />
      )}
      {adding !== undefined && (
        <AddJob
          outline={outline}
          stage={adding}
          onClose={() => setAdding(undefined)}
          onAdd={(job) => void change({ what: 'add_job', job, steps: ['true'], takes: [], after: [], gives: {} }, job)}
        />
      )}
    </div>
  );
}

/** Jobs that a mistake stands in: between a job's first line and the next job's. */
function wrongOf(outline: Outline | undefined, diagnostics: Schemas['DiagnosticView'][]): Set<string> {
  const jobs = outline?.stages.flatMap((stage) => stage.jobs).sort((one, other) => one.line - other.line) ?? [];
  const errors = diagnostics.filter((one) => one.severity === 'error');
  const of = (line: number) => jobs.findLast((job) => job.line <= line)?.job;
  return new Set(errors.map((one) => of(one.line)).filter((job): job is string => job !== undefined));
}

function AddJob(props: { outline: Outline; stage: string; onClose: () => void; onAdd: (job: string) => void }) {
  const { outline, stage, onClose, onAdd } = props;
  const [where, setWhere] = useState(stage);
  const [name, setName] = useState('');
  const ofStage = (
    <div key="stage" className="ask-field">
      <label htmlFor="add-stage">Stage</label>
      <input
        id="add-stage"
        className="field"
        list="add-stages"
        required
        value={where}
        onChange={(event) => setWhere(event.target.value)}
      />
      <datalist id="add-stages">
        {outline.stages.map((one) => (
          <option key={one.name} value={one.name} />
        ))}
      </datalist>
    </div>
  );
  const ofJob = (
    <div key="job" className="ask-field">
      <label htmlFor="add-job">Name</label>
      <input id="add-job" className="field" required value={name} onChange={(event) => setName(event.target.value)} />
    </div>
  );
  return (
    <Dialog label="Add a job" className="ask" onClose={onClose}>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          onAdd(`${where.trim()}.${name.trim()}`);
          onClose();
        }}
      >
        <h2>Add a job</h2>
        <p>It stands behind the last job of its stage; a stage that is new comes last in the order.</p>
        {/* What is known already comes last. */}
        {stage === '' ? [ofStage, ofJob] : [ofJob, ofStage]}
        <div className="buttons">
          <button type="submit" className="act main" disabled={!where.trim() || !name.trim()}>
            Add
          </button>
          <button type="button" className="act" onClick={onClose}>
            Not now
          </button>
        </div>
      </form>
    </Dialog>
  );
}
