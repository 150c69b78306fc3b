// Graph: the plan as layers from top to bottom, cells of a matrix in one box. Hovering a box lights all that leads to it
// and all that follows, and writes the reason on each of its edges. Only edges that others do not imply are drawn.
import dagre from '@dagrejs/dagre';
import { useMemo, useState } from 'react';
import type { JobView, PlanView } from '../../api/client';
import { Shape } from '../../look/states';
import { duration, time } from '../../parts/words';
import { cellOf, type Group, grouped, jobOf, stateOf } from './groups';
import './graph.css';

type Edge = { from: string; to: string; because: string };
type Placed = {
  nodes: Map<string, { x: number; y: number; width: number; height: number }>;
  lines: (Edge & { d: string; middle: { x: number; y: number } })[];
  width: number;
  height: number;
};

const HEIGHT = 30;
/** A box with its strip of cells is higher by so much a line of them. */
const STRIP = 24;
const IN_LINE = 12;
/** More cells than this are told as a number. */
const MOST_CELLS = 36;

const words: Record<string, string> = {
  takes: 'takes what it gives',
  after: 'comes after it',
  order: 'the order says so',
  at_once: 'so many at once',
  rollout: 'the roll-out comes here next',
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
  const groups = useMemo(() => grouped(jobs), [jobs]);
  // The places depend on the plan alone; jobs change all the time.
  const shape = groups.map((group) => `${group.name} ${group.cells.length}`).join();
  // biome-ignore lint/correctness/useExhaustiveDependencies: `shape` stands for the groups
  const placed = useMemo(() => place(plan, groups), [plan, shape]);
  const lit = useMemo(() => (hovered ? related(hovered, placed.lines) : new Set<string>()), [hovered, placed]);
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
      {groups.map((group) => {
        const spot = placed.nodes.get(group.name);
        const [first] = group.cells;
        if (!spot || !first) return null;
        const hover = {
          onMouseEnter: () => setHovered(group.name),
          onMouseLeave: () => setHovered(undefined),
          onFocus: () => setHovered(group.name),
          onBlur: () => setHovered(undefined),
        };
        const at = { left: spot.x, top: spot.y, width: spot.width, height: spot.height };
        const look = `node ${lit.has(group.name) ? 'lit' : ''}`;
        if (group.cells.length === 1)
          return (
            <button
              type="button"
              key={group.name}
              className={look}
              aria-pressed={chosen === first.id}
              style={at}
              onClick={() => onChoose(first.id)}
              title={first.why ?? ''}
              {...hover}
            >
              <Shape state={first.state} label />
              <span>{first.id}</span>
              <span className="took num">{took(first, now)}</span>
            </button>
          );
        return (
          // biome-ignore lint/a11y/useSemanticElements: a fieldset cannot be placed as a box of a drawing
          <div key={group.name} role="group" aria-label={group.name} className={`${look} cells`} style={at} {...hover}>
            <div>
              <Shape state={stateOf(group.cells)} label />
              <span>{group.name}</span>
              <span className="took num">{group.cells.length} cells</span>
            </div>
            <div className="cell-strip">
              {group.cells.slice(0, MOST_CELLS).map((cell) => (
                <button
                  type="button"
                  key={cell.id}
                  aria-pressed={chosen === cell.id}
                  aria-label={`${cellOf(cell.id)} ${cell.state}`}
                  title={`${cellOf(cell.id)}: ${cell.why ?? cell.state}`}
                  onClick={() => onChoose(cell.id)}
                >
                  <Shape state={cell.state} />
                </button>
              ))}
              {group.cells.length > MOST_CELLS && <span className="soft">and more in Lanes</span>}
            </div>
          </div>
        );
      })}
    </div>
  );
}

function took(job: JobView, now: number): string {
  const last = job.attempts.at(-1);
  return last ? duration((last.ended_at ? time(last.ended_at) : now) - time(last.started_at)) : '';
}

function place(plan: PlanView, groups: Group[]): Placed {
  const graph = new dagre.graphlib.Graph();
  graph.setGraph({ rankdir: 'TB', ranksep: 44, nodesep: 12, ranker: 'tight-tree' });
  graph.setDefaultEdgeLabel(() => ({}));
  for (const group of groups) {
    const cells = Math.min(group.cells.length, MOST_CELLS);
    const strip = group.cells.length > 1 ? STRIP * Math.ceil(cells / IN_LINE) + 4 : 0;
    const width = 94 + 7.6 * group.name.length;
    graph.setNode(group.name, {
      width: strip ? Math.max(width, 16 + 24 * Math.min(cells, IN_LINE)) : width,
      height: HEIGHT + strip,
    });
  }
  const edges = new Map<string, Edge>();
  for (const job of plan.jobs)
    for (const wait of job.waits_for) {
      const edge = { from: jobOf(wait.job), to: jobOf(job.id), because: wait.because };
      if (!wait.implied && edge.from !== edge.to) edges.set(`${edge.from} ${edge.to}`, edge);
    }
  for (const edge of edges.values()) graph.setEdge(edge.from, edge.to);
  dagre.layout(graph);
  const nodes = new Map(
    groups.map((group) => {
      const { x, y, width, height } = graph.node(group.name);
      return [group.name, { x: x - width / 2, y: y - height / 2, width, height }];
    }),
  );
  const lines = [...edges.values()].map((edge) => {
    const from = graph.node(edge.from);
    const to = graph.node(edge.to);
    const [top, bottom] = [from.y + from.height / 2, to.y - to.height / 2];
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
