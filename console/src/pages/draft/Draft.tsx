// Draft: a pipeline file in an editor, what is wrong with it as one types, and its plan for a chosen occasion beside it.
// Kept as a commit on a new branch.
import { useQuery } from '@tanstack/react-query';
import { Button, Input, Modal, Select } from 'antd';
import { useDeferredValue, useEffect, useRef, useState } from 'react';
import { useNavigate, useParams, useSearchParams } from 'react-router';
import { answered, api, type Schemas } from '../../api/client';
import { Trouble } from '../../parts/Trouble';
import { Editor } from './Editor';
import './draft.css';

type Diagnostic = Schemas['DiagnosticView'];
type Event = Schemas['Event'];

const events: { value: Event; label: string; asks: 'branch' | 'tag' | 'target' }[] = [
  { value: 'push', label: 'a push to', asks: 'branch' },
  { value: 'proposal', label: 'a proposal to', asks: 'target' },
  { value: 'tag', label: 'the tag', asks: 'tag' },
  { value: 'schedule', label: 'the schedule, on', asks: 'branch' },
  { value: 'by_hand', label: 'by hand, on', asks: 'branch' },
  { value: 'pipeline', label: 'a passed pipeline, on', asks: 'branch' },
];

const first = `language = 1

[starts]
push = ["main"]

[job.test.unit]
steps = ["make test"]
`;

/** The rules of a project are no pipeline, and are drafted as one is. */
const rulesName = 'rules';

function rulesAsFile(rules: Schemas['RulesView'] | undefined): Schemas['PipelineView'] | undefined {
  if (!rules?.file) return undefined;
  return { name: rulesName, path: rules.path, text: rules.file, version: null, commit: '', inputs: [], by_hand: false };
}

const firstRules = `rules = 1

[branch.main]
land      = "queue"
wants     = ["main"]
approvals = { of = 1 }
`;

export default function Draft() {
  const { project = '', pipeline = 'main' } = useParams();
  const [search] = useSearchParams();
  // A mistake of a run is mended where it is: in its branch's file, with the cursor there.
  const ref = search.get('ref') ?? undefined;
  const { data, error } = useQuery({
    queryKey: ['pipelines', project, ref],
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: () =>
      answered(api.GET('/api/v1/projects/{project}/pipelines', { params: { path: { project }, query: { ref } } })),
  });
  const { data: rules } = useQuery({
    queryKey: ['rules', project],
    enabled: pipeline === rulesName,
    queryFn: () => answered(api.GET('/api/v1/projects/{project}/rules', { params: { path: { project } } })),
  });
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  const found = pipeline === rulesName ? rulesAsFile(rules) : data.find((one) => one.name === pipeline);
  if (pipeline === rulesName && !rules) return null;
  return (
    <Desk
      key={`${project}/${pipeline}/${ref}`}
      project={project}
      pipeline={pipeline}
      all={data}
      given={found}
      at={placeOf(search.get('at'))}
    />
  );
}

/** `3:1` as a line and a column. */
function placeOf(text: string | null): { line: number; column: number } | undefined {
  const found = /^(\d{1,7}):(\d{1,7})$/.exec(text ?? '');
  return found ? { line: Number(found[1]), column: Number(found[2]) } : undefined;
}

function Desk({
  project,
  pipeline,
  all,
  given,
  at,
}: {
  project: string;
  pipeline: string;
  all: Schemas['PipelineView'][];
  given: Schemas['PipelineView'] | undefined;
  /** Where the cursor stands at first. */
  at: { line: number; column: number } | undefined;
}) {
  const navigate = useNavigate();
  const isRules = pipeline === rulesName;
  const [text, setText] = useState(given?.text ?? (isRules ? firstRules : first));
  const [event, setEvent] = useState<Event>('push');
  const [name, setName] = useState('main');
  const [changed, setChanged] = useState('');
  const [keeping, setKeeping] = useState(false);
  const path = given?.path ?? (pipeline === 'main' ? 'ordotaxis.toml' : `ordotaxis/${pipeline}.toml`);
  const asked = useDeferredValue({ text, event, name, changed });
  const { data: checked } = useCheck(project, path, asked);
  const diagnostics = checked?.diagnostics ?? [];
  const errors = diagnostics.filter((one) => one.severity === 'error').length;
  return (
    <div className="draft">
      <div className="bar">
        <h1>Draft of {project}</h1>
        <Select
          aria-label="Pipeline"
          value={pipeline}
          className="w-120"
          options={[...new Set([...all.map((one) => one.name), pipeline, rulesName])].map((value) => ({
            value,
            label: value,
          }))}
          onChange={(value) => navigate(`/projects/${project}/draft/${value}`)}
        />
        <span className="soft grow code">
          {path}
          {given?.version != null && ` · kept by the service, version ${given.version}`}
          {text !== (given?.text ?? '') && ' · changed'}
        </span>
        {!isRules && (
          <>
            <span className="soft">plan for</span>
            <Select
              aria-label="Occasion"
              value={event}
              className="w-176"
              options={events}
              onChange={(value) => {
                setEvent(value);
                setName(value === 'tag' ? 'v1' : 'main');
              }}
            />
            <Input
              aria-label="Branch or tag"
              className="w-130"
              value={name}
              onChange={(change) => setName(change.target.value)}
            />
            <Input
              aria-label="Changed paths"
              className="w-190"
              placeholder="changed: src/a.c, …"
              value={changed}
              onChange={(change) => setChanged(change.target.value)}
            />
          </>
        )}
        <Button type="primary" disabled={errors > 0 || text === given?.text} onClick={() => setKeeping(true)}>
          Keep as a branch
        </Button>
      </div>
      <div className="draft-desk">
        <section className="draft-text" aria-label="Pipeline file">
          <Editor rules={isRules} text={text} onText={setText} diagnostics={diagnostics} at={at} />
          <Findings found={diagnostics} later={checked?.later ?? []} known={checked !== undefined} />
        </section>
        <section className="draft-plan" aria-label="Plan">
          {isRules ? <Says says={checked?.says} /> : <Plan checked={checked} />}
        </section>
      </div>
      {keeping && (
        <Keep
          project={project}
          pipeline={pipeline}
          text={text}
          from={given?.commit || undefined}
          onDone={() => setKeeping(false)}
        />
      )}
    </div>
  );
}

type Asked = { text: string; event: Event; name: string; changed: string };

/** Asks the service as soon as typing pauses; what was said last stays until the next answer. */
function useCheck(project: string, file: string, asked: Asked) {
  const [settled, setSettled] = useState(asked);
  useEffect(() => {
    const timer = window.setTimeout(() => setSettled(asked), 120);
    return () => window.clearTimeout(timer);
  }, [asked]);
  return useQuery({
    queryKey: ['check', project, file, settled],
    placeholderData: (last) => last,
    queryFn: () => {
      const { text, event, name, changed } = settled;
      const about = events.find((one) => one.value === event)?.asks ?? 'branch';
      const paths = changed.split(',').map((path) => path.trim());
      const occasion: Schemas['Occasion'] = { event, [about]: name };
      if (changed.trim()) occasion.changed = paths.filter(Boolean);
      return answered(api.POST('/api/v1/check', { body: { text, file, project, occasion } }));
    },
  });
}

/** What rules say, in sentences. */
function Says({ says }: { says: string[] | undefined }) {
  if (!says) return null;
  if (says.length === 0) return <p className="empty">They say nothing yet, or something is wrong with them.</p>;
  return (
    <>
      <p className="soft">Once they are on the main branch:</p>
      <ul className="plain">
        {says.map((line) => (
          <li key={line}>{line}</li>
        ))}
      </ul>
    </>
  );
}

/** The picture without its own rules: those of this page hold, and others are not let in. */
const drawing = (picture: string) => picture.replace(/<style>[^<]*<\/style>/, '');

/** The plan; while something is wrong the last one that was right, faded. */
function Plan({ checked }: { checked: Schemas['CheckView'] | undefined }) {
  const last = useRef<string>(undefined);
  if (checked?.picture) last.current = checked.picture;
  if (!checked) return null;
  if (checked.jobs > 0 && !checked.picture) return <p className="empty">{checked.jobs} jobs: too many to draw here</p>;
  if (!last.current) return <p className="empty">The plan is drawn when nothing is wrong.</p>;
  const stale = !checked.picture;
  return (
    <>
      {stale && <p className="soft">The plan as it was before the mistake.</p>}
      {!stale && !checked.starts && <p className="soft">The start rules do not make it begin on this occasion.</p>}
      {/* biome-ignore lint/security/noDangerouslySetInnerHtml: drawn by the service, every text in it escaped */}
      <div className={stale ? 'stale' : undefined} dangerouslySetInnerHTML={{ __html: drawing(last.current) }} />
    </>
  );
}

const marks = { error: '▼', warning: '╪', note: '–' };

function Findings({ found, later, known }: { found: Diagnostic[]; later: Diagnostic[]; known: boolean }) {
  if (!known) return null;
  const all = [...found, ...later];
  if (all.length === 0) return <p className="draft-well">Nothing is wrong with this file.</p>;
  return (
    <ol className="draft-findings" aria-live="polite">
      {all.map((one) => (
        <li key={`${one.line}:${one.column} ${one.code} ${one.message}`} className={one.severity}>
          <span className="num soft">
            {one.line}:{one.column}
          </span>
          <span className="mark-of">{marks[one.severity]}</span>
          <span>
            {one.message}
            {one.hint && <span className="soft"> · {one.hint}</span>}
          </span>
        </li>
      ))}
    </ol>
  );
}

function Keep({
  project,
  pipeline,
  text,
  from,
  onDone,
}: {
  project: string;
  pipeline: string;
  text: string;
  from: string | undefined;
  onDone: () => void;
}) {
  const [branch, setBranch] = useState(`draft/${pipeline}`);
  const [message, setMessage] = useState('');
  const [wrong, setWrong] = useState<string>();
  const [kept, setKept] = useState<Schemas['DraftView']>();
  const keep = async () => {
    setWrong(undefined);
    try {
      const body = { pipeline, text, branch, message, from };
      setKept(await answered(api.POST('/api/v1/projects/{project}/drafts', { params: { path: { project } }, body })));
    } catch (error) {
      setWrong(error instanceof Error ? error.message : String(error));
    }
  };
  return (
    <Modal
      open
      title="Keep as a branch"
      onCancel={onDone}
      okText={kept ? 'Close' : 'Keep'}
      onOk={kept ? onDone : keep}
      okButtonProps={{ disabled: !kept && (!branch.trim() || !message.trim()) }}
    >
      {kept ? (
        <p>
          Kept as <span className="code">{kept.commit.slice(0, 8)}</span> on the branch{' '}
          <span className="code">{kept.branch}</span>. Look at it in the repository, and land it there.
        </p>
      ) : (
        <div className="draft-keep">
          <label htmlFor="draft-branch">Branch</label>
          <Input id="draft-branch" value={branch} onChange={(change) => setBranch(change.target.value)} />
          <label htmlFor="draft-message">What the change is for</label>
          <Input id="draft-message" value={message} onChange={(change) => setMessage(change.target.value)} autoFocus />
          {wrong && <p className="wrong">{wrong}</p>}
        </div>
      )}
    </Modal>
  );
}
