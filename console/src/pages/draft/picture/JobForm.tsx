// A job of the file as a form: its name and stage, what it comes after and takes, and what its keys say. Each change is one
// change of the text, made when its field is left.
import { useQuery } from '@tanstack/react-query';
import { useEffect, useState } from 'react';
import { answered, api, type Schemas } from '../../../api/client';
import type { Schema } from '../complete';
import { type Key, keys, others, read, shown } from './keys';
import type { Job, Outline } from './layout';
import type { Edit } from './Picture';

interface Props {
  outline: Outline;
  job: Job;
  onEdit: (edit: Edit, follow?: string) => void;
  onShow: (line: number) => void;
}

export function JobForm({ outline, job, onEdit, onShow }: Props) {
  const [stage = '', name = ''] = job.job.split('.');
  const says = useSays();
  const inText = others(job.keys);
  return (
    <section className="job-form" aria-label={`Job ${job.job}`}>
      <div className="panel-line">
        <h2>{job.job}</h2>
        <button type="button" className="link" onClick={() => onShow(job.line)}>
          line {job.line}
        </button>
        <button type="button" className="act" onClick={() => onEdit({ what: 'remove_job', job: job.job })}>
          Remove {job.job}
        </button>
      </div>
      <Field
        label="name"
        is={name}
        onIs={(to) => to && onEdit({ what: 'rename_job', job: job.job, to: `${stage}.${to}` }, `${stage}.${to}`)}
      />
      <div className="job-key">
        <label htmlFor="job-stage">stage</label>
        <StageOf outline={outline} job={job} onEdit={onEdit} />
      </div>
      <Order outline={outline} stage={stage} onEdit={onEdit} />
      <Links outline={outline} job={job} onEdit={onEdit} />
      {keys.map((key) => (
        <KeyField
          key={`${job.job} ${key.key}`}
          of={key}
          says={says(key.key)}
          is={job.keys[key.key]}
          onIs={(value) => onEdit({ what: 'set_key', job: job.job, key: key.key, value: value as never })}
        />
      ))}
      {inText.length > 0 && (
        <p className="soft">
          It also says {inText.join(', ')}:{' '}
          <button type="button" className="link" onClick={() => onShow(job.line)}>
            in the text
          </button>
        </p>
      )}
    </section>
  );
}

/** What each key is for, as the language says it. */
function useSays(): (key: string) => string | undefined {
  const { data } = useQuery({
    queryKey: ['schema', false],
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: () => answered(api.GET('/api/v1/schema', { params: { query: {} } })),
  });
  const below = (schema: Schema | undefined): Schema | undefined => {
    const any = schema?.additionalProperties;
    return Object.values(schema?.patternProperties ?? {})[0] ?? (typeof any === 'object' ? any : undefined);
  };
  const job = below(below((data as Schema | undefined)?.properties?.job));
  return (key) => job?.properties?.[key]?.description;
}

/** A text that counts when its field is left, or on Enter. */
function Field({ label, is, onIs }: { label: string; is: string; onIs: (is: string) => void }) {
  const [text, setText] = useState(is);
  useEffect(() => setText(is), [is]);
  return (
    <form
      className="job-key"
      onSubmit={(event) => {
        event.preventDefault();
        if (text.trim() !== is) onIs(text.trim());
      }}
    >
      <label htmlFor={`job-${label}`}>{label}</label>
      <input
        id={`job-${label}`}
        className="field"
        value={text}
        onChange={(event) => setText(event.target.value)}
        onBlur={() => text.trim() !== is && onIs(text.trim())}
      />
    </form>
  );
}

const NEW = '+';

function StageOf({ outline, job, onEdit }: Omit<Props, 'onShow'>) {
  const [stage = '', name = ''] = job.job.split('.');
  const [naming, setNaming] = useState(false);
  const move = (to: string) => onEdit({ what: 'rename_job', job: job.job, to: `${to}.${name}` }, `${to}.${name}`);
  if (naming)
    return (
      <input
        id="job-stage"
        className="field"
        placeholder="the new stage's name"
        // biome-ignore lint/a11y/noAutofocus: it takes the place of the list that was chosen from
        autoFocus
        onBlur={(event) => {
          setNaming(false);
          if (event.target.value.trim()) move(event.target.value.trim());
        }}
        onKeyDown={(event) => event.key === 'Enter' && event.currentTarget.blur()}
      />
    );
  return (
    <select
      id="job-stage"
      className="field"
      value={stage}
      onChange={(event) => (event.target.value === NEW ? setNaming(true) : move(event.target.value))}
    >
      {outline.stages.map((one) => (
        <option key={one.name}>{one.name}</option>
      ))}
      <option value={NEW}>a new stage…</option>
    </select>
  );
}

/** The stage's own name, and where it stands. */
function Order({ outline, stage, onEdit }: { outline: Outline; stage: string; onEdit: Props['onEdit'] }) {
  const others = outline.stages.filter((one) => one.name !== stage);
  const put = (text: string) => {
    const [side, of = ''] = text.split(' ');
    if (of) onEdit({ what: 'move_stage', stage, place: { side: side as Schemas['Side'], of } });
  };
  return (
    <details>
      <summary className="soft">the stage {stage}: its name, its place</summary>
      <Field label="stage-name" is={stage} onIs={(to) => to && onEdit({ what: 'rename_stage', stage, to })} />
      {others.length > 0 && (
        <div className="job-key">
          <label htmlFor="stage-place">put it</label>
          <select id="stage-place" className="field" value="" onChange={(event) => put(event.target.value)}>
            <option value="">where it is</option>
            {others.flatMap((one) =>
              (['before', 'after', 'beside'] as const).map((side) => (
                <option key={`${side} ${one.name}`} value={`${side} ${one.name}`}>
                  {side} {one.name}
                </option>
              )),
            )}
          </select>
        </div>
      )}
    </details>
  );
}

/** What it comes after and takes: each can go, and another can come. */
function Links({ outline, job, onEdit }: Omit<Props, 'onShow'>) {
  const own = job.job.split('.')[0];
  const jobs = outline.stages.flatMap((stage) => stage.jobs).filter((one) => one.job !== job.job);
  const after = [...jobs.map((one) => one.job), ...outline.stages.map((one) => one.name).filter((one) => one !== own)];
  const gives = jobs.flatMap((one) => one.gives.map((name) => `${one.job}/${name}`));
  const named = (link: Schemas['OutlineLink']) => (link.artifact ? `${link.of}/${link.artifact}` : link.of);
  const has = job.links.map(named);
  const drop = (link: Schemas['OutlineLink']) =>
    link.artifact
      ? onEdit({ what: 'not_take', job: job.job, artifact: named(link) })
      : onEdit({ what: 'not_after', job: job.job, of: link.of });
  const more = (label: string, all: string[], add: (name: string) => void) => {
    const rest = all.filter((name) => !has.includes(name));
    if (rest.length === 0) return null;
    return (
      <select className="field" aria-label={label} value="" onChange={(event) => add(event.target.value)}>
        <option value="">{label}…</option>
        {rest.map((name) => (
          <option key={name}>{name}</option>
        ))}
      </select>
    );
  };
  return (
    <div className="job-key">
      <span>waits for</span>
      <div className="job-links">
        {job.links.map((link) => (
          <span key={named(link)}>
            {link.artifact ? 'takes ' : 'after '}
            {named(link)}{' '}
            <button type="button" className="link" aria-label={`Not ${named(link)}`} onClick={() => drop(link)}>
              ×
            </button>
          </span>
        ))}
        {more('come after', after, (of) => onEdit({ what: 'come_after', job: job.job, of }))}
        {more('take', gives, (artifact) => onEdit({ what: 'take', job: job.job, artifact }))}
      </div>
    </div>
  );
}

function KeyField(props: { of: Key; says: string | undefined; is: unknown; onIs: (value: unknown) => void }) {
  const { of, says, is, onIs } = props;
  const known = shown(of.kind, is);
  const [text, setText] = useState(known ?? '');
  const [wrong, setWrong] = useState<string>();
  useEffect(() => setText(known ?? ''), [known]);
  const id = `key-${of.key}`;
  const put = (next: string) => {
    if (next === known) return setWrong(undefined);
    const told = read(of.kind, next, is);
    setWrong('wrong' in told ? told.wrong : undefined);
    if ('value' in told) onIs(told.value);
  };
  const field = {
    id,
    className: of.kind === 'steps' || of.kind === 'text' ? 'field code' : 'field',
    value: text,
    'aria-describedby': `${id}-says`,
  };
  const type = (event: React.ChangeEvent<HTMLInputElement | HTMLTextAreaElement>) => setText(event.target.value);
  const lines = of.kind === 'steps' || of.kind === 'map' || of.kind === 'lists';
  return (
    <div className="job-key">
      <label htmlFor={id}>{of.key}</label>
      {known === undefined ? (
        <span className="soft">is written in the text</span>
      ) : of.kind === 'flag' ? (
        <select {...field} onChange={(event) => put(event.target.value)}>
          <option value="">as by default</option>
          <option value="true">true</option>
          <option value="false">false</option>
        </select>
      ) : lines ? (
        <textarea
          {...field}
          rows={Math.max(of.kind === 'steps' ? 2 : 1, text.split('\n').length)}
          placeholder={of.such}
          onChange={type}
          onBlur={() => put(text)}
        />
      ) : (
        <input
          {...field}
          placeholder={of.such}
          onChange={type}
          onBlur={() => put(text)}
          onKeyDown={(event) => event.key === 'Enter' && put(text)}
        />
      )}
      {wrong ? (
        <span className="s-failed" role="alert">
          {wrong}
        </span>
      ) : (
        <span className="soft" id={`${id}-says`}>
          {of.kind === 'steps' ? 'a command a line; the first that fails ends the job' : says}
        </span>
      )}
    </div>
  );
}
