// Graph: the plan as layers from top to bottom. Hovering a job lights all that leads to it and all that follows, and
// writes the reason on each of its edges. Only edges that others do not imply are drawn.
import dagre from '@dagrejs/dagre';
import { useMemo, useState } from 'react';
import type { JobView, PlanView } from '../../api/client';
import { Shape } from '../../look/states';
import { duration, time } from '../../parts/words';

type Edge = { from: string; to: string; because: string };
type Placed = {
  nodes: Map<string, { x: number; y: number; width: number }>;
  lines: (Edge & { d: string; middle: { x: number; y: number } })[];
  width: number;
  height: number;
};

const NODE_HEIGHT = 30;
const words: Record<string, string> = {
  takes: 'takes what it gives',
  after: 'comes after it',
  order: 'the order says so',
  at_once: 'one after another',
};

export function Graph({
  plan,
  jobs,
  now,
  chosen,
  onChoose,
}: {
  plan: PlanView;
  jobs: JobView[];
  now: number;
  chosen: string | undefined;
  onChoose: (id: string) => void;
}) {
  const [hovered, setHovered] = useState<string>();
  const placed = useMemo(() => place(plan), [plan]);
  const lit = useMemo(() => (hovered ? related(hovered, placed.lines) : new Set<string>()), [hovered, placed]);
  const byId = useMemo(() => new Map(jobs.map((job) => [job.id, job])), [jobs]);
  return (
    <div className={`graph ${hovered ? 'hovered' : ''}`} style={{ width: placed.width, height: placed.height }}>
      <svg width={placed.width} height={placed.height} aria-hidden="true">
        {placed.lines.map((line) => (
          <path
            key={`${line.from} ${line.to}`}
            d={line.d}
            className={lit.has(line.from) && lit.has(line.to) ? 'lit' : ''}
          />
        ))}
        {placed.lines
          .filter((line) => line.from === hovered || line.to === hovered)
          .map((line) => (
            <text key={`${line.from} ${line.to}`} x={line.middle.x} y={line.middle.y} textAnchor="middle">
              {words[line.because]}
            </text>
          ))}
      </svg>
      {plan.jobs.map((planned) => {
        const spot = placed.nodes.get(planned.id);
        const job = byId.get(planned.id);
        if (!spot || !job) return null;
        return (
          <button
            type="button"
            key={planned.id}
            className={`node ${lit.has(planned.id) ? 'lit' : ''}`}
            aria-pressed={chosen === planned.id}
            style={{ left: spot.x, top: spot.y, width: spot.width, height: NODE_HEIGHT }}
            onClick={() => onChoose(planned.id)}
            onMouseEnter={() => setHovered(planned.id)}
            onMouseLeave={() => setHovered(undefined)}
            onFocus={() => setHovered(planned.id)}
            onBlur={() => setHovered(undefined)}
            title={job.why ?? ''}
          >
            <Shape state={job.state} label />
            <span>{planned.id}</span>
            <span className="took num">{took(job, now)}</span>
          </button>
        );
      })}
    </div>
  );
}

function took(job: JobView, now: number): string {
  const last = job.attempts.at(-1);
  return last ? duration((last.ended_at ? time(last.ended_at) : now) - time(last.started_at)) : '';
}

function place(plan: PlanView): Placed {
  const graph = new dagre.graphlib.Graph();
  graph.setGraph({ rankdir: 'TB', ranksep: 44, nodesep: 12, ranker: 'tight-tree' });
  graph.setDefaultEdgeLabel(() => ({}));
  for (const job of plan.jobs) graph.setNode(job.id, { width: 98 + 7 * job.id.length, height: NODE_HEIGHT });
  const edges: Edge[] = plan.jobs.flatMap((job) =>
    job.waits_for
      .filter((wait) => !wait.implied)
      .map((wait) => ({ from: wait.job, to: job.id, because: wait.because })),
  );
  for (const edge of edges) graph.setEdge(edge.from, edge.to);
  dagre.layout(graph);
  const nodes = new Map(
    plan.jobs.map((job) => {
      const node = graph.node(job.id);
      return [job.id, { x: node.x - node.width / 2, y: node.y - node.height / 2, width: node.width }];
    }),
  );
  const lines = edges.map((edge) => {
    const from = graph.node(edge.from);
    const to = graph.node(edge.to);
    const [top, bottom] = [from.y + NODE_HEIGHT / 2, to.y - NODE_HEIGHT / 2];
    const bend = (bottom - top) / 2;
    const d = `M${from.x} ${top}C${from.x} ${top + bend} ${to.x} ${bottom - bend} ${to.x} ${bottom}`;
    return { ...edge, d, middle: { x: (from.x + to.x) / 2, y: (top + bottom) / 2 + 4 } };
  });
  const size = graph.graph();
  return { nodes, lines, width: size.width ?? 0, height: size.height ?? 0 };
}

/** The job itself, all that leads to it and all that follows. */
function related(id: string, edges: Edge[]): Set<string> {
  const walk = (next: (edge: Edge, at: string) => string | undefined) => {
    const seen = new Set([id]);
    const open = [id];
    for (let at = open.pop(); at !== undefined; at = open.pop()) {
      for (const edge of edges) {
        const other = next(edge, at);
        if (other && !seen.has(other)) {
          seen.add(other);
          open.push(other);
        }
      }
    }
    return seen;
  };
  const before = walk((edge, at) => (edge.to === at ? edge.from : undefined));
  const after = walk((edge, at) => (edge.from === at ? edge.to : undefined));
  return new Set([...before, ...after]);
}
