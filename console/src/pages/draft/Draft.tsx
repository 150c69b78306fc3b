// Draft: a pipeline file in an editor, what is wrong with it as one types, and its plan for a chosen occasion beside it.
// Kept as a commit on a new branch.

import type { EditorView } from '@codemirror/view';
import { useQuery } from '@tanstack/react-query';
import { Button, Input, Select } from 'antd';
import { useDeferredValue, useEffect, useRef, useState } from 'react';
import { useNavigate, useParams } from 'react-router';
import { answered, api, type PlanView, type Schemas } from '../../api/client';
import { useActs } from '../../parts/acts';
import { Split } from '../../parts/Split';
import { Trouble } from '../../parts/Trouble';
import { many } from '../../parts/words';
import { Graph } from '../run/graph/Graph';
import { asJobs } from '../start/form';
import { Drawn } from './Drawn';
import { Editor } from './Editor';
import { Keep } from './Keep';
import './draft.css';
import { useSearch } from '../../parts/useSearch';

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
  const [search] = useSearch();
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
  const none = data !== undefined && data.length === 0 && pipeline === 'main';
  const offered = useQuery({
    queryKey: ['first-file', project],
    enabled: none,
    retry: false,
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: () => answered(api.GET('/api/v1/projects/{project}/first-file', { params: { path: { project } } })),
  });
  if (error) return <Trouble error={error} />;
  if (!data || (none && offered.isPending)) return null;
  const found = pipeline === rulesName ? rulesAsFile(rules) : data.find((one) => one.name === pipeline);
  if (pipeline === rulesName && !rules) return null;
  return (
    <Desk
      key={`${project}/${pipeline}/${ref}`}
      project={project}
      pipeline={pipeline}
      all={data}
      given={found}
      offered={offered.data?.text}
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
  offered,
  at,
}: {
  project: string;
  pipeline: string;
  all: Schemas['PipelineView'][];
  given: Schemas['PipelineView'] | undefined;
  /** What there is to start from, where the repository has no pipeline. */
  offered: string | undefined;
  /** Where the cursor stands at first. */
  at: { line: number; column: number } | undefined;
}) {
  const navigate = useNavigate();
  const isRules = pipeline === rulesName;
  const [text, setText] = useState(given?.text ?? (isRules ? firstRules : (offered ?? first)));
  const [event, setEvent] = useState<Event>('push');
  const [name, setName] = useState('main');
  const [changed, setChanged] = useState('');
  const [keeping, setKeeping] = useState(false);
  const [editor, setEditor] = useState<EditorView | null>(null);
  const [search, put] = useSearch();
  const [wide, setWide] = useState(false);
  useActs('Draft', [{ name: 'The picture, or the plan, over the whole width', key: 'w', run: () => setWide(!wide) }]);
  const view = search.get('view') === 'plan' ? 'plan' : 'picture';
  const show = (one: 'picture' | 'plan') => put('view', one);
  const path = given?.path ?? (pipeline === 'main' ? 'ordotaxis.toml' : `ordotaxis/${pipeline}.toml`);
  const asked = useDeferredValue({ text, event, name, changed });
  const { data: checked, isNow } = useCheck(project, path, asked);
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
          <div className="words" role="tablist" aria-label="Beside the text">
            {(['picture', 'plan'] as const).map((one) => (
              <button key={one} type="button" role="tab" aria-selected={view === one} onClick={() => show(one)}>
                {one === 'plan' ? 'Plan' : 'Picture'}
              </button>
            ))}
          </div>
        )}
        {!isRules && view === 'plan' && (
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
          Keep
        </Button>
      </div>
      <div className="draft-desk">
        <Split
          name="draft"
          usual={44}
          only={wide ? 'right' : undefined}
          labels={['Pipeline file', isRules ? 'What they say' : view === 'plan' ? 'Plan' : 'Picture']}
          left={
            <div className="draft-text">
              <Editor
                rules={isRules}
                text={text}
                onText={setText}
                onView={setEditor}
                diagnostics={diagnostics}
                at={at}
              />
              <Findings found={diagnostics} later={checked?.later ?? []} known={checked !== undefined} />
            </div>
          }
          right={
            <div className="draft-plan">
              {isRules && <Says says={checked?.says} />}
              {!isRules && view === 'plan' && <Plan checked={checked} />}
              {!isRules && view === 'picture' && (
                <Drawn checked={checked} isNow={isNow} editor={editor} diagnostics={diagnostics} />
              )}
            </div>
          }
        />
      </div>
      {keeping && (
        <Keep
          project={project}
          pipeline={pipeline}
          path={path}
          given={given}
          text={text}
          onClose={() => setKeeping(false)}
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
  const found = useQuery({
    queryKey: ['check', project, file, settled],
    placeholderData: (last) => last,
    queryFn: () => {
      const { text, event, name, changed } = settled;
      const about = events.find((one) => one.value === event)?.asks ?? 'branch';
      const paths = changed.split(',').map((path) => path.trim());
      const occasion: Schemas['Occasion'] = { event, [about]: name };
      if (changed.trim()) occasion.changed = paths.filter(Boolean);
      return answered(api.POST('/api/v1/check', { body: { text, file, project, occasion, without_picture: true } }));
    },
  });
  // What was said last is of a text before this one, while another one is asked about.
  return { data: found.data, isNow: !found.isPlaceholderData && settled.text === asked.text };
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

/** The plan; while something is wrong the last one that was right, faded. */
function Plan({ checked }: { checked: Schemas['CheckView'] | undefined }) {
  const last = useRef<PlanView>(undefined);
  const [chosen, setChosen] = useState<string>();
  if (checked?.plan) last.current = checked.plan;
  if (!checked) return null;
  if (checked.jobs > 0 && !checked.plan)
    return <p className="empty">{many(checked.jobs, 'job')}: too many to draw here</p>;
  if (!last.current) return <p className="empty">The plan is drawn when nothing is wrong.</p>;
  const stale = !checked.plan;
  return (
    <>
      {stale && <p className="soft">The plan as it was before the mistake.</p>}
      {!stale && !checked.starts && <p className="soft">The start rules do not make it begin on this occasion.</p>}
      <div className={stale ? 'stale drawn-plan' : 'drawn-plan'}>
        <Graph plan={last.current} jobs={asJobs(last.current)} now={0} chosen={chosen} onChoose={setChosen} />
      </div>
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
