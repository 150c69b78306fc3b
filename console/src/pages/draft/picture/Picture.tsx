// biome-ignore-all lint/a11y/useSemanticElements: boxes of a drawing are its buttons
// The file as a picture that can be changed: stages and jobs as boxes. A job is dragged into another stage, a stage beside
// another one, and from a job's right edge to the job that is to come after it; all of it is done from the keyboard in the
// form of the chosen job as well.
import { useMemo, useRef, useState } from 'react';
import type { Schemas } from '../../../api/client';
import { cutMiddle } from '../../../parts/words';
import { curve, HEAD, JOB, type Layout, layoutOf, next, type Outline, sideOf } from './layout';
import './picture.css';

export type Edit = Schemas['Edit'];

export interface Props {
  outline: Outline;
  /** Jobs that something is wrong with. */
  wrong: ReadonlySet<string>;
  chosen: string | undefined;
  onChoose: (job: string | undefined) => void;
  onEdit: (edit: Edit) => void;
  /** Asks for a name and adds a job there. */
  onAdd: (stage: string) => void;
}

/** What is being dragged: a job, a stage, or a line from a job. */
interface Drag {
  what: 'job' | 'stage' | 'line';
  name: string;
  from: { x: number; y: number };
  at: { x: number; y: number };
  moved: boolean;
}

/** A press that moves less is a press. */
const SLACK = 4;

export function Picture(props: Props) {
  const { outline, chosen, onChoose, onEdit } = props;
  const layout = useMemo(() => layoutOf(outline), [outline]);
  const drawing = useRef<SVGSVGElement>(null);
  const [drag, setDrag] = useState<Drag>();
  const place = (event: React.PointerEvent) => {
    const box = drawing.current?.getBoundingClientRect();
    return { x: event.clientX - (box?.left ?? 0), y: event.clientY - (box?.top ?? 0) };
  };
  const begin = (event: React.PointerEvent, what: Drag['what'], name: string) => {
    if (event.button !== 0) return;
    event.stopPropagation();
    const at = place(event);
    drawing.current?.setPointerCapture(event.pointerId);
    setDrag({ what, name, from: at, at, moved: false });
  };
  const move = (event: React.PointerEvent) => {
    if (!drag) return;
    const at = place(event);
    const moved = drag.moved || Math.hypot(at.x - drag.from.x, at.y - drag.from.y) > SLACK;
    setDrag({ ...drag, at, moved });
  };
  const end = (event: React.PointerEvent) => {
    if (!drag) return;
    setDrag(undefined);
    if (!drag.moved) {
      if (drag.what !== 'stage') onChoose(drag.name);
      return;
    }
    const edit = dropped(layout, { ...drag, at: place(event) });
    if (edit) onEdit(edit);
  };
  const keys = (event: React.KeyboardEvent) => {
    const at = (event.target as Element).closest('[data-name]')?.getAttribute('data-name');
    const to = at ? next(layout, at, event.key) : undefined;
    if (!to) return;
    event.preventDefault();
    drawing.current?.querySelector<SVGElement>(`[data-name="${to}"]`)?.focus();
  };
  const over = drag?.moved ? target(layout, drag) : undefined;
  return (
    <svg
      ref={drawing}
      className={drag?.moved ? 'picture dragging' : 'picture'}
      width={layout.width}
      height={layout.height}
      role="group"
      aria-label="The pipeline: arrow keys go from box to box, Enter opens one"
      onPointerMove={move}
      onPointerUp={end}
      onPointerCancel={() => setDrag(undefined)}
      onKeyDown={keys}
    >
      {outline.stages.map((stage) => (
        <StageBox key={stage.name} stage={stage} layout={layout} over={over === stage.name} begin={begin} {...props} />
      ))}
      {layout.links.map((link) => (
        <path
          key={`${link.kind} ${link.from} ${link.to}`}
          className={`link ${link.kind}${link.from === chosen || link.to === chosen ? ' lit' : ''}`}
          d={link.d}
        >
          <title>
            {link.to} {link.kind === 'takes' ? `takes ${link.words} from` : 'comes after'} {link.from}
          </title>
        </path>
      ))}
      {outline.stages
        .flatMap((stage) => stage.jobs)
        .map(({ job, links }) => (
          <JobBox
            key={job}
            job={job}
            told={links.map((link) =>
              link.artifact ? `takes ${link.artifact} of ${link.of}` : `comes after ${link.of}`,
            )}
            layout={layout}
            over={over === job}
            begin={begin}
            {...props}
          />
        ))}
      {drag?.moved && <Ghost drag={drag} layout={layout} />}
    </svg>
  );
}

type Begin = (event: React.PointerEvent, what: Drag['what'], name: string) => void;

function StageBox(props: Props & { stage: Outline['stages'][number]; layout: Layout; over: boolean; begin: Begin }) {
  const { stage, layout, over, begin, onAdd } = props;
  const box = layout.stages.get(stage.name);
  if (!box) return null;
  const foot = box.y + box.height - JOB - 6;
  const add = () => onAdd(stage.name);
  return (
    <g className={over ? 'stage over' : 'stage'}>
      <rect className="outer" x={box.x} y={box.y} width={box.width} height={box.height} />
      <g className="head" onPointerDown={(event) => begin(event, 'stage', stage.name)}>
        <rect x={box.x} y={box.y} width={box.width} height={HEAD - 4} />
        <text x={box.x + 10} y={box.y + 20}>
          {cutMiddle(stage.name, 19)}
          <title>{`Stage ${stage.name}: drag it beside another one`}</title>
        </text>
      </g>
      <g
        className="add"
        role="button"
        tabIndex={0}
        data-name={stage.name}
        aria-label={`Add a job to ${stage.name}`}
        onClick={add}
        onKeyDown={(event) => event.key === 'Enter' && add()}
      >
        <rect x={box.x + 10} y={foot} width={box.width - 20} height={JOB - 4} />
        <text x={box.x + 20} y={foot + 18}>
          + job
        </text>
      </g>
    </g>
  );
}

function JobBox(props: Props & { job: string; told: string[]; layout: Layout; over: boolean; begin: Begin }) {
  const { job, told, layout, over, begin, chosen, onChoose, wrong } = props;
  const box = layout.jobs.get(job);
  if (!box) return null;
  const bad = wrong.has(job);
  const label = [`Job ${job}`, bad && 'something is wrong with it', ...told].filter(Boolean).join(', ');
  return (
    <g className={['job', job === chosen && 'chosen', over && 'over', bad && 'wrong'].filter(Boolean).join(' ')}>
      <g
        role="button"
        tabIndex={0}
        data-name={job}
        aria-label={label}
        aria-pressed={job === chosen}
        onPointerDown={(event) => begin(event, 'job', job)}
        onKeyDown={(event) => event.key === 'Enter' && onChoose(job)}
      >
        <rect x={box.x} y={box.y} width={box.width} height={box.height} />
        <text x={box.x + 10} y={box.y + 20}>
          {bad && '▼ '}
          {cutMiddle(job.slice(job.indexOf('.') + 1), 15)}
        </text>
      </g>
      <circle
        className="handle"
        data-from={job}
        cx={box.x + box.width}
        cy={box.y + box.height / 2}
        r={6}
        onPointerDown={(event) => begin(event, 'line', job)}
      >
        <title>Drag to the job that is to come after {job}</title>
      </circle>
    </g>
  );
}

function Ghost({ drag, layout }: { drag: Drag; layout: Layout }) {
  const own = layout.jobs.get(drag.name) ?? layout.stages.get(drag.name);
  if (!own) return null;
  if (drag.what === 'line')
    return <path className="link ghost" d={curve(own, { x: drag.at.x, y: drag.at.y, width: 0, height: 0 })} />;
  const [x, y] = [own.x + drag.at.x - drag.from.x, own.y + drag.at.y - drag.from.y];
  return <rect className="ghost" x={x} y={y} width={own.width} height={Math.min(own.height, 2 * JOB)} />;
}

const inside = ({ x, y, width, height }: { x: number; y: number; width: number; height: number }, at: Drag['at']) =>
  at.x >= x && at.x <= x + width && at.y >= y && at.y <= y + height;

/** What something would be let go on. */
function target(layout: Layout, drag: Drag): string | undefined {
  const among = drag.what === 'line' ? [...layout.jobs] : [...layout.stages];
  return among.find(([name, box]) => name !== drag.name && inside(box, drag.at))?.[0];
}

/** The change that a drag means where it ended; none where it ended nowhere. */
export function dropped(layout: Layout, drag: Drag): Edit | undefined {
  const on = target(layout, drag);
  if (!on) return undefined;
  if (drag.what === 'line') return { what: 'come_after', job: on, of: drag.name };
  if (drag.what === 'job') {
    const [stage, name] = drag.name.split('.');
    return stage === on ? undefined : { what: 'rename_job', job: drag.name, to: `${on}.${name}` };
  }
  const box = layout.stages.get(on);
  return box && { what: 'move_stage', stage: drag.name, place: { side: sideOf(box, drag.at.x), of: on } };
}
