// A run by hand: of which branch, tag or commit, which pipeline, with which inputs, which of its jobs; and the plan of
// exactly that, before anything begins.
import { useQuery } from '@tanstack/react-query';
import { Button } from 'antd';
import { useDeferredValue, useEffect, useRef, useState } from 'react';
import { useNavigate, useParams } from 'react-router';
import { answered, api, done, type RunView, type Schemas } from '../../api/client';
import { stopRun } from '../../api/stop';
import { ProjectWords } from '../../parts/ProjectWords';
import { Split } from '../../parts/Split';
import { say, wordsOf } from '../../parts/said';
import { Trouble } from '../../parts/Trouble';
import { Graph } from '../run/graph/Graph';
import {
  asJobs,
  asked,
  begun,
  choices,
  deploying,
  type Entry,
  inputsOf,
  missing,
  type NewRun,
  type Pipeline,
  sentence,
} from './form';
import './start.css';
import { type Put, useSearch } from '../../parts/useSearch';

/** How long changes pause before the plan is asked for, in milliseconds. */
const PAUSE = 200;

export default function Start() {
  const { project = '' } = useParams();
  const path = { project };
  const { data: refs, error } = useQuery({
    queryKey: ['refs', project],
    queryFn: () => answered(api.GET('/api/v1/projects/{project}/refs', { params: { path } })),
  });
  return (
    <>
      <ProjectWords project={project} at="start" />
      {error && <Trouble error={error} />}
      {refs && <Desk project={project} refs={refs} />}
    </>
  );
}

/** What is asked for, kept in the address. */
function useAsked(refs: Schemas['RefsView'], pipelines: Pipeline[] | undefined) {
  const [search, put] = useSearch();
  const ref = search.get('ref') ?? refs.main_branch;
  const name = search.get('pipeline') ?? 'main';
  const pipeline = pipelines?.find((one) => one.name === name);
  const given = Object.fromEntries(
    search.getAll('input').map((pair) => [pair.split('=')[0] ?? '', pair.slice(pair.indexOf('=') + 1)]),
  );
  const [inputs, setInputs] = useState<Record<string, string>>(given);
  const typed = Object.entries(inputs).map(([name, value]) => `${name}=${value}`);
  useAddress(typed, put);
  return { ref, name, pipeline, inputs: inputsOf(pipeline, inputs), jobs: search.getAll('job'), put, setInputs };
}

/** What is typed stands in the address once typing pauses. */
function useAddress(typed: string[], put: Put) {
  const text = typed.join('\n');
  const first = useRef(text);
  useEffect(() => {
    if (first.current === text) return;
    first.current = text;
    const timer = window.setTimeout(() => put('input', text.split('\n')), PAUSE);
    return () => window.clearTimeout(timer);
  }, [text, put]);
}

function Desk({ project, refs }: { project: string; refs: Schemas['RefsView'] }) {
  const path = { project };
  const [search] = useSearch();
  const ref = search.get('ref') ?? refs.main_branch;
  const pipelines = useQuery({
    queryKey: ['pipelines', project, ref],
    queryFn: () => answered(api.GET('/api/v1/projects/{project}/pipelines', { params: { path, query: { ref } } })),
  });
  const form = useAsked(refs, pipelines.data);
  const lacks = missing(form.pipeline, form.inputs);
  const ready = form.pipeline !== undefined && lacks.length === 0;
  const planned = usePlanned(project, asked(form.ref, form.name, form.inputs, form.jobs), ready);
  // Which jobs there are is told by the plan of all of them.
  const whole = usePlanned(project, asked(form.ref, form.name, form.inputs, []), ready);
  const [told, setTold] = useState<string>();
  const [urgent, setUrgent] = useState<Urgent>({ jobs: [], reason: '' });
  const navigate = useNavigate();
  const plan = planned.data?.plan ?? undefined;
  // What the plan does not have any more is no emergency.
  const past = deploying(plan).filter((one) => urgent.jobs.includes(one.job));
  const start = async () => {
    const body = asked(form.ref, form.name, form.inputs, form.jobs);
    const { data, error } = await api.POST('/api/v1/projects/{project}/runs', { params: { path }, body });
    if (!data) return setTold((error as { detail?: string } | undefined)?.detail ?? 'it was not started');
    const entries = await goPast(data, past, urgent.reason);
    say({ ...begun(data.run, entries), undo: () => stopRun(data.run) });
    navigate(`/runs/${data.run}`);
  };
  return (
    <Split
      name="start"
      usual={36}
      labels={['What to start', 'The plan']}
      left={
        <form
          className="start-form scroll"
          onSubmit={(event) => {
            event.preventDefault();
            void start();
          }}
        >
          <Ref
            refs={refs}
            is={form.ref}
            onRef={(next) => form.put('ref', next === refs.main_branch ? undefined : next)}
          />
          <label htmlFor="start-pipeline">Pipeline</label>
          <select
            id="start-pipeline"
            className="field"
            value={form.name}
            onChange={(event) => form.put('pipeline', event.target.value === 'main' ? undefined : event.target.value)}
          >
            {(pipelines.data ?? []).map((one) => (
              <option key={one.name} value={one.name} disabled={!one.by_hand}>
                {one.by_hand ? one.name : `${one.name}: not by hand`}
              </option>
            ))}
          </select>
          {pipelines.data && !form.pipeline && <p className="s-failed">This commit has no pipeline {form.name}.</p>}
          {pipelines.error && <p className="s-failed">{pipelines.error.message}</p>}
          <Inputs
            pipeline={form.pipeline}
            inputs={form.inputs}
            onInput={(name, value) => form.setInputs((old) => ({ ...old, [name]: value }))}
          />
          <Emergency all={deploying(plan)} is={urgent} onIs={setUrgent} />
          <Jobs all={choices(whole.data?.plan ?? undefined)} is={form.jobs} onJobs={(jobs) => form.put('job', jobs)} />
          <div className="start-confirm">
            <p role="status">
              {lacks.length > 0
                ? `Still needs ${lacks.join(', ')}.`
                : (planned.error?.message ?? sentence(plan, planned.data?.commit ?? '', form.ref))}
            </p>
            <Button
              type="primary"
              htmlType="submit"
              disabled={!plan || lacks.length > 0 || (past.length > 0 && !urgent.reason.trim())}
            >
              Start
            </Button>
            {told && (
              <p className="s-failed" role="alert">
                {told}
              </p>
            )}
          </div>
        </form>
      }
      right={<Picture planned={planned.data} />}
    />
  );
}

/** The plan of what is asked for; what was planned last stays until the next answer. */
function usePlanned(project: string, ask: NewRun, ready: boolean) {
  const text = useDeferredValue(JSON.stringify(ask));
  const [settled, setSettled] = useState(text);
  useEffect(() => {
    const timer = window.setTimeout(() => setSettled(text), PAUSE);
    return () => window.clearTimeout(timer);
  }, [text]);
  return useQuery({
    queryKey: ['planned', project, settled],
    enabled: ready,
    placeholderData: (last) => last,
    queryFn: () =>
      answered(
        api.POST('/api/v1/projects/{project}/planned-run', {
          params: { path: { project } },
          body: JSON.parse(settled) as NewRun,
        }),
      ),
  });
}

/** A branch, a tag or a commit: typed, or chosen among the newest. */
function Ref({ refs, is, onRef }: { refs: Schemas['RefsView']; is: string; onRef: (ref: string) => void }) {
  const [text, setText] = useState(is);
  const known = [...refs.branches, ...refs.tags, ...refs.commits].find((one) => one.name === text);
  const type = (next: string) => {
    setText(next);
    const found = [...refs.branches, ...refs.tags, ...refs.commits].some((one) => one.name === next);
    // What is no name of these may be the beginning of one: it counts when the field is left.
    if (found) onRef(next);
  };
  return (
    <>
      <label htmlFor="start-ref">Branch, tag or commit</label>
      <input
        id="start-ref"
        className="field"
        list="start-refs"
        value={text}
        onChange={(event) => type(event.target.value)}
        onBlur={() => text.trim() !== '' && onRef(text.trim())}
      />
      <datalist id="start-refs">
        {refs.branches.map((one) => (
          <option key={`branch ${one.name}`} value={one.name}>{`branch: ${one.title}`}</option>
        ))}
        {refs.tags.map((one) => (
          <option key={`tag ${one.name}`} value={one.name}>{`tag: ${one.title}`}</option>
        ))}
        {refs.commits.map((one) => (
          <option key={`commit ${one.name}`} value={one.name}>{`commit: ${one.title}, ${one.author}`}</option>
        ))}
      </datalist>
      <p className="soft">
        {known && (
          <>
            <span className="code">{known.commit.slice(0, 8)}</span> {known.title} · {known.author}
          </>
        )}
      </p>
    </>
  );
}

function Inputs({
  pipeline,
  inputs,
  onInput,
}: {
  pipeline: Pipeline | undefined;
  inputs: Record<string, string>;
  onInput: (name: string, value: string) => void;
}) {
  if (!pipeline || pipeline.inputs.length === 0) return null;
  return (
    <fieldset className="bare">
      <legend>Inputs</legend>
      {pipeline.inputs.map((input) => (
        <div key={input.name} className="start-input">
          <label htmlFor={`input-${input.name}`}>{input.name}</label>
          {input.choices.length > 0 ? (
            <select
              id={`input-${input.name}`}
              className="field"
              value={inputs[input.name]}
              onChange={(event) => onInput(input.name, event.target.value)}
            >
              {input.choices.map((choice) => (
                <option key={choice}>{choice}</option>
              ))}
            </select>
          ) : (
            <input
              id={`input-${input.name}`}
              className="field"
              value={inputs[input.name]}
              onChange={(event) => onInput(input.name, event.target.value)}
            />
          )}
          {input.says && <span className="soft">{input.says}</span>}
        </div>
      ))}
    </fieldset>
  );
}

interface Urgent {
  jobs: string[];
  reason: string;
}

/** Asks that jobs of a run that has begun go into their environments past the rules; which of them may, and why not where not. */
async function goPast(run: RunView, past: { job: string }[], reason: string): Promise<Entry[]> {
  const params = { path: { project: run.project, number: run.number } };
  const entries: Entry[] = [];
  for (const { job } of past) {
    const asked = done(api.POST('/api/v1/runs/{project}/{number}/emergency', { params, body: { job, reason } }));
    const refused = await asked.then(() => undefined, wordsOf);
    entries.push({ job, refused });
  }
  return entries;
}

/** What of the plan goes past the rules of its environment; nothing where it puts nothing anywhere. */
function Emergency({
  all,
  is,
  onIs,
}: {
  all: { job: string; into: string }[];
  is: Urgent;
  onIs: (is: Urgent) => void;
}) {
  if (all.length === 0) return null;
  const turn = (job: string) =>
    onIs({ ...is, jobs: is.jobs.includes(job) ? is.jobs.filter((one) => one !== job) : [...is.jobs, job] });
  return (
    <details>
      <summary>{is.jobs.length === 0 ? 'By the rules of each environment' : 'An emergency'}</summary>
      <p className="soft">
        What is chosen goes in past approvals, hours, frost and what it comes after. Everybody who could have approved
        it is told, and someone else has to confirm it. It cannot be taken back.
      </p>
      {all.map(({ job, into }) => (
        <label key={job} className="start-past">
          <input type="checkbox" checked={is.jobs.includes(job)} onChange={() => turn(job)} /> {job} into {into}
        </label>
      ))}
      {is.jobs.length > 0 && (
        <>
          <label htmlFor="start-why">Why it is one: everybody reads it</label>
          <input
            id="start-why"
            className="field"
            value={is.reason}
            onChange={(event) => onIs({ ...is, reason: event.target.value })}
          />
        </>
      )}
    </details>
  );
}

function Jobs({ all, is, onJobs }: { all: [string, string[]][]; is: string[]; onJobs: (jobs: string[]) => void }) {
  const turn = (job: string) => onJobs(is.includes(job) ? is.filter((one) => one !== job) : [...is, job]);
  return (
    <details open={is.length > 0}>
      <summary>{is.length === 0 ? 'All jobs' : `Only ${is.join(', ')}, and what they take from`}</summary>
      {all.map(([stage, jobs]) => (
        <fieldset key={stage} className="bare start-jobs">
          <legend className="soft">{stage}</legend>
          {jobs.map((job) => (
            <label key={job}>
              <input type="checkbox" checked={is.includes(job)} onChange={() => turn(job)} /> {job}
            </label>
          ))}
        </fieldset>
      ))}
    </details>
  );
}

function Picture({ planned }: { planned: Schemas['PlannedRunView'] | undefined }) {
  const [chosen, setChosen] = useState<string>();
  if (!planned) return <p className="panel-body soft">The plan is drawn here.</p>;
  if (!planned.plan)
    return (
      <ul className="panel-body plain">
        {planned.diagnostics.map((one) => (
          <li key={`${one.line}:${one.column} ${one.message}`}>
            <span className={one.severity === 'error' ? 's-failed' : 'soft'}>{one.severity}</span> {one.file}:{one.line}
            :{one.column} {one.message}
          </li>
        ))}
      </ul>
    );
  return <Graph plan={planned.plan} jobs={asJobs(planned.plan)} now={0} chosen={chosen} onChoose={setChosen} />;
}
