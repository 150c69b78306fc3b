// biome-ignore-all lint/a11y/useSemanticElements: boxes of a drawing are its buttons
// biome-ignore-all lint/a11y/noStaticElementInteractions: where the pointer is lights what the focus lights, too
// biome-ignore-all lint/a11y/noAriaHiddenOnFocusable: lines of a drawing take no focus

// Graph: the plan as layers from top to bottom, cells of a matrix in one box, a folded stage as one. Where the pointer or
// the focus is, all that leads there and all that follows is lit, with the reason on each of its edges; between the chosen
// job and another one the way is lit, and told in words.
import { useMemo, useRef, useState } from 'react';
import type { JobView, PlanView } from '../../../api/client';
import { marks } from '../../../look/marks';
import { useActs } from '../../../parts/acts';
import { keep } from '../../../parts/keep';
import { rank } from '../../../parts/sought';
import { standalone } from '../../../parts/standalone';
import { cutMiddle, duration, many } from '../../../parts/words';
import { cellOf, jobOf, stateOf } from '../lanes/groups';
import { tookOf } from '../lanes/rows';
import { type Box, cellsShown, HEIGHT, IN_LINE, type Layout, LONGEST, layoutOf, neighbour, STRIP } from './layout';
import { type Because, type Edge, edgesOf, foldedAtFirst, type Node, nodesOf, stageId } from './nodes';
import { related, shortest, ways } from './way';
import './graph.css';
import { useSearch } from '../../../parts/useSearch';

const reasons: Record<Because, string> = {
  takes: 'takes what it gives',
  after: 'comes after it',
  order: 'the order says so',
  at_once: 'so many at once',
  rollout: 'the roll-out comes here next',
};

interface Props {
  plan: PlanView;
  jobs: JobView[];
  now: number;
  chosen: string | undefined;
  onChoose: (id: string) => void;
}

export function Graph({ plan, jobs, now, chosen, onChoose }: Props) {
  const [folded, setFolded] = useState(() => foldedAtFirst(jobs, chosen));
  const [pointed, setPointed] = useState<string>();
  const [words, setWords] = useState('');
  const [search, put] = useSearch();
  const drawing = useRef<SVGSVGElement>(null);
  const field = useRef<HTMLInputElement>(null);
  const nodes = useMemo(() => nodesOf(jobs, folded), [jobs, folded]);
  const edges = useMemo(() => edgesOf(plan, folded), [plan, folded]);
  // The places depend on the plan and on what is folded alone; jobs change all the time.
  const shape = nodes.map((node) => `${node.id} ${cellsShown(node)}`).join();
  // biome-ignore lint/correctness/useExhaustiveDependencies: `shape` stands for the nodes
  const layout = useMemo(() => layoutOf(nodes, edges), [shape, edges]);
  const boxOf = (id: string | undefined) => {
    const job = jobs.find((one) => one.id === id || jobOf(one.id) === id);
    return job && (folded.has(job.stage) ? stageId(job.stage) : jobOf(job.id));
  };
  const own = boxOf(chosen);
  const goal = search.get('to') ?? '';
  const other = boxOf(goal);
  const lit = useMemo(() => litOf(edges, own, other, pointed), [edges, own, other, pointed]);
  const found =
    words.trim() === '' ? [] : nodes.filter((node) => node.jobs.some((job) => rank(words, job.id) !== undefined));
  const fold = (stage: string) =>
    setFolded((known) => {
      const next = new Set(known);
      if (!next.delete(stage)) next.add(stage);
      return next;
    });
  const setGoal = (next: string) => put('to', next);
  const goTo = (id: string | undefined) => {
    const element = id && drawing.current?.querySelector<SVGElement>(`[data-node="${CSS.escape(id)}"]`);
    if (element) element.focus();
  };
  const open = (node: Node) =>
    node.kind === 'stage'
      ? fold(node.stage)
      : onChoose((node.jobs.find((job) => job.id === chosen) ?? worstOf(node.jobs)).id);
  const exported = () => drawing.current && keep('plan.svg', 'image/svg+xml', standalone(drawing.current));
  const stages = [...new Set(jobs.map((job) => job.stage))];
  useActs('Graph', [
    { name: 'Find a job', key: 'g', run: () => field.current?.focus() },
    { name: 'Fold all stages', run: () => setFolded(new Set(stages)) },
    { name: 'Open all stages', run: () => setFolded(new Set()) },
    { name: 'Graph as an SVG file', run: () => void exported() },
  ]);
  return (
    <div className="lanes-pane">
      <search className="graph-bar">
        <input
          ref={field}
          className="field"
          type="search"
          aria-label="Find a job"
          placeholder="find a job"
          value={words}
          onChange={(event) => setWords(event.target.value)}
          onKeyDown={(event) => event.key === 'Enter' && goTo(found[0]?.id)}
        />
        <span className="soft num" aria-live="polite">
          {words.trim() !== '' && many(found.length, 'box', 'boxes')}
        </span>
        {chosen && (
          <label className="soft">
            way from {chosen} to{' '}
            <select
              className="field"
              aria-label={`Way from ${chosen} to`}
              value={goal}
              onChange={(event) => setGoal(event.target.value)}
            >
              <option value="">…</option>
              {[...new Set(jobs.map((job) => jobOf(job.id)))].map((name) => (
                <option key={name}>{name}</option>
              ))}
            </select>
          </label>
        )}
        <span className="grow" />
        {stages.length > 1 && (
          <button
            type="button"
            className="link"
            onClick={() => setFolded(folded.size === 0 ? new Set(stages) : new Set())}
          >
            {folded.size === 0 ? 'fold stages' : 'open stages'}
          </button>
        )}
        <button type="button" className="link" onClick={exported}>
          SVG
        </button>
      </search>
      {own && other && own !== other && <Way edges={edges} own={own} other={other} />}
      <div className="scroll">
        <svg
          ref={drawing}
          className={`graph ${lit.nodes.size > 0 ? 'lit' : ''}`}
          width={layout.width}
          height={layout.height}
          viewBox={`0 0 ${layout.width} ${layout.height}`}
          role="group"
          aria-label="The plan"
        >
          <Lines layout={layout} lit={lit} />
          {nodes.map((node) => {
            const box = layout.boxes.get(node.id);
            return (
              box && (
                <NodeBox
                  key={node.id}
                  {...{ node, box, now, chosen, onChoose }}
                  look={`${lit.nodes.has(node.id) ? 'lit' : ''} ${found.includes(node) ? 'found' : ''}`}
                  onOpen={() => open(node)}
                  onFold={() => fold(node.stage)}
                  onPoint={(on) => setPointed(on ? node.id : undefined)}
                  onArrow={(way) => goTo(neighbour(layout, node.id, way))}
                />
              )
            );
          })}
        </svg>
      </div>
    </div>
  );
}

const worstOf = (jobs: JobView[]) => jobs.find((job) => job.state === stateOf(jobs)) ?? (jobs[0] as JobView);

interface Lit {
  nodes: Set<string>;
  edges: Set<Edge>;
  /** Those that have their reason written on them. */
  told: Set<Edge>;
}

/** What is lit: where the pointer is, all before and after; else the ways between the chosen job and another. */
function litOf(edges: Edge[], own: string | undefined, other: string | undefined, pointed: string | undefined): Lit {
  if (pointed) {
    const nodes = related(pointed, edges);
    const lit = edges.filter((edge) => nodes.has(edge.from) && nodes.has(edge.to));
    return {
      nodes,
      edges: new Set(lit),
      told: new Set(lit.filter((edge) => edge.from === pointed || edge.to === pointed)),
    };
  }
  const way = own && other && own !== other ? ways(own, other, edges) : [];
  const short = own && other ? shortest(own, other, edges) : [];
  return { nodes: new Set(way.flatMap((edge) => [edge.from, edge.to])), edges: new Set(way), told: new Set(short) };
}

/** The way in words. */
function Way({ edges, own, other }: { edges: Edge[]; own: string; other: string }) {
  const way = shortest(own, other, edges);
  if (way.length === 0)
    return <p className="way soft">Nothing leads from one to the other: they may run at the same time.</p>;
  const name = (id: string) => id.replace(/^:/, 'stage ');
  return (
    <ol className="way" aria-label="The way between them">
      {way.map((edge) => (
        <li key={`${edge.from} ${edge.to}`}>
          {name(edge.to)}{' '}
          <span className="soft">
            waits for {name(edge.from)}: {reasons[edge.because]}
          </span>
        </li>
      ))}
    </ol>
  );
}

function Lines({ layout, lit }: { layout: Layout; lit: Lit }) {
  const isLit = (line: Edge) => [...lit.edges].some((edge) => edge.from === line.from && edge.to === line.to);
  const isTold = (line: Edge) => [...lit.told].some((edge) => edge.from === line.from && edge.to === line.to);
  return (
    <g aria-hidden="true">
      {layout.lines.map((line) => (
        <path key={`${line.from} ${line.to}`} d={line.d} className={lit.edges.size > 0 && isLit(line) ? 'lit' : ''} />
      ))}
      {lit.told.size > 0 &&
        layout.lines.filter(isTold).map((line) => (
          <text
            key={`${line.from} ${line.to}`}
            className="reason"
            x={line.middle.x}
            y={line.middle.y}
            textAnchor="middle"
          >
            {reasons[line.because]}
          </text>
        ))}
    </g>
  );
}

function NodeBox({
  node,
  box,
  now,
  chosen,
  look,
  onChoose,
  onOpen,
  onFold,
  onPoint,
  onArrow,
}: {
  node: Node;
  box: Box;
  now: number;
  chosen: string | undefined;
  look: string;
  onChoose: (id: string) => void;
  onOpen: () => void;
  onFold: () => void;
  onPoint: (on: boolean) => void;
  onArrow: (way: 'up' | 'down' | 'left' | 'right') => void;
}) {
  const state = stateOf(node.jobs);
  const [only] = node.jobs;
  const single = node.kind === 'job' && node.jobs.length === 1;
  const name = single && only ? only.id : node.name;
  const told =
    single && only
      ? only.attempts.length > 0
        ? duration(tookOf(only, now))
        : ''
      : many(node.jobs.length, node.kind === 'stage' ? 'job' : 'cell');
  const isChosen = node.kind === 'job' && node.jobs.some((job) => job.id === chosen);
  const press = (event: React.KeyboardEvent) => {
    const way = ({ ArrowUp: 'up', ArrowDown: 'down', ArrowLeft: 'left', ArrowRight: 'right' } as const)[event.key];
    if (way) onArrow(way);
    else if (event.key === 'Enter' || event.key === ' ') onOpen();
    else return;
    event.preventDefault();
  };
  return (
    <g
      transform={`translate(${box.x} ${box.y})`}
      className={`node ${node.kind} ${look}`}
      onMouseEnter={() => onPoint(true)}
      onMouseLeave={() => onPoint(false)}
    >
      <g
        role="button"
        tabIndex={0}
        data-node={node.id}
        aria-pressed={node.kind === 'job' ? isChosen : undefined}
        aria-expanded={node.kind === 'stage' ? false : undefined}
        onClick={onOpen}
        onDoubleClick={onFold}
        onKeyDown={press}
        onFocus={() => onPoint(true)}
        onBlur={() => onPoint(false)}
      >
        <rect className="box" width={box.width} height={box.height} rx="2" />
        <Mark state={state} x={10} y={9} label={node.kind === 'stage' ? `${state} stage` : state} />
        <text x="30" y="20">
          {cutMiddle(name, LONGEST)}
          {name.length > LONGEST && <title>{name}</title>}
        </text>
        <text className="took" x={box.width - 10} y="20" textAnchor="end">
          {told}
        </text>
      </g>
      {node.jobs.slice(0, cellsShown(node)).map((cell, at) => (
        <g
          key={cell.id}
          transform={`translate(${8 + STRIP * (at % IN_LINE)} ${HEIGHT + STRIP * Math.floor(at / IN_LINE)})`}
          className="cell"
          role="button"
          tabIndex={0}
          aria-label={`${cell.id} ${cell.state}`}
          aria-pressed={cell.id === chosen}
          onClick={() => onChoose(cell.id)}
          onKeyDown={(event) => (event.key === 'Enter' || event.key === ' ') && onChoose(cell.id)}
        >
          <title>{`${cellOf(cell.id)}: ${cell.why ?? cell.state}`}</title>
          <rect className="catch" width={STRIP} height={STRIP} />
          <Mark state={cell.state} x={6} y={6} />
        </g>
      ))}
    </g>
  );
}

function Mark({ state, x, y, label }: { state: JobView['state']; x: number; y: number; label?: string }) {
  return (
    <g
      role={label ? 'img' : undefined}
      aria-label={label}
      transform={`translate(${x} ${y})`}
      className={`s-${state}`}
      fill="currentColor"
      // biome-ignore lint/security/noDangerouslySetInnerHtml: drawings of our own
      dangerouslySetInnerHTML={{ __html: marks[state] }}
    />
  );
}
