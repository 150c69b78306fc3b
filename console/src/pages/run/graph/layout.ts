// Where boxes and edges stand: layers from top to bottom. The places depend on the plan and on what is folded alone.
import dagre from '@dagrejs/dagre';
import type { Edge, Node } from './nodes';

export interface Box {
  x: number;
  y: number;
  width: number;
  height: number;
}
export interface Line extends Edge {
  d: string;
  middle: { x: number; y: number };
}
export interface Layout {
  boxes: Map<string, Box>;
  lines: Line[];
  width: number;
  height: number;
}

export const HEIGHT = 30;
/** A box with its strip of cells is higher by so much a line of them. */
export const STRIP = 24;
export const IN_LINE = 12;
/** More cells than this are told as a number. */
export const MOST_CELLS = 36;
const MARGIN = 12;

/** Characters of a name that a box has room for; a longer one is shortened in its middle. */
export const LONGEST = 40;

/** How many cells of a matrix have a mark of their own; none of a single job, nor of a folded stage. */
export const cellsShown = (node: Node) =>
  node.kind === 'job' && node.jobs.length > 1 ? Math.min(node.jobs.length, MOST_CELLS) : 0;

function sizeOf(node: Node): { width: number; height: number } {
  const cells = cellsShown(node);
  const width = 104 + 7.6 * Math.min(node.name.length, LONGEST) + (node.kind === 'stage' ? 36 : 0);
  if (cells === 0) return { width, height: HEIGHT };
  return {
    width: Math.max(width, 16 + STRIP * Math.min(cells, IN_LINE)),
    height: HEIGHT + STRIP * Math.ceil(cells / IN_LINE) + 4,
  };
}

export function layoutOf(nodes: Node[], edges: Edge[]): Layout {
  const graph = new dagre.graphlib.Graph();
  graph.setGraph({ rankdir: 'TB', ranksep: 44, nodesep: 12, ranker: 'tight-tree', marginx: MARGIN, marginy: MARGIN });
  graph.setDefaultEdgeLabel(() => ({}));
  for (const node of nodes) graph.setNode(node.id, sizeOf(node));
  const known = edges.filter((edge) => graph.hasNode(edge.from) && graph.hasNode(edge.to));
  for (const edge of known) graph.setEdge(edge.from, edge.to);
  dagre.layout(graph);
  const boxes = new Map(
    nodes.map((node) => {
      const { x, y, width, height } = graph.node(node.id);
      return [node.id, { x: x - width / 2, y: y - height / 2, width, height }];
    }),
  );
  const lines = known.map((edge) => {
    const [from, to] = [graph.node(edge.from), graph.node(edge.to)];
    const [top, bottom] = [from.y + from.height / 2, to.y - to.height / 2];
    const bend = (bottom - top) / 2;
    const d = `M${from.x} ${top}C${from.x} ${top + bend} ${to.x} ${bottom - bend} ${to.x} ${bottom}`;
    return { ...edge, d, middle: { x: (from.x + to.x) / 2, y: (top + bottom) / 2 + 4 } };
  });
  const size = graph.graph();
  return { boxes, lines, width: size.width ?? 0, height: size.height ?? 0 };
}

/** The box that one comes to from another by an arrow key: along the nearest edge, or beside it on its layer. */
export function neighbour(layout: Layout, id: string, way: 'up' | 'down' | 'left' | 'right'): string | undefined {
  const own = layout.boxes.get(id);
  if (!own) return undefined;
  const middle = (box: Box) => box.x + box.width / 2;
  const candidates =
    way === 'up' || way === 'down'
      ? layout.lines
          .filter((line) => (way === 'down' ? line.from : line.to) === id)
          .map((line) => (way === 'down' ? line.to : line.from))
      : [...layout.boxes]
          .filter(([, box]) => Math.abs(box.y + box.height / 2 - own.y - own.height / 2) < HEIGHT)
          .map(([other]) => other);
  const fits = (box: Box) =>
    way === 'left' ? middle(box) < middle(own) : way === 'right' ? middle(box) > middle(own) : true;
  let best: { id: string; far: number } | undefined;
  for (const other of candidates) {
    const box = layout.boxes.get(other);
    if (!box || other === id || !fits(box)) continue;
    const far = Math.abs(middle(box) - middle(own));
    if (!best || far < best.far) best = { id: other, far };
  }
  return best?.id;
}
