// What leads where: all before a box and after it, and the ways from one box to another.
import type { Edge } from './nodes';

function reached(from: string, edges: Edge[], next: (edge: Edge) => [string, string]): Set<string> {
  const ahead = new Map<string, string[]>();
  for (const edge of edges) {
    const [at, to] = next(edge);
    ahead.set(at, [...(ahead.get(at) ?? []), to]);
  }
  const seen = new Set([from]);
  const open = [from];
  for (let at = open.pop(); at !== undefined; at = open.pop())
    for (const to of ahead.get(at) ?? [])
      if (!seen.has(to)) {
        seen.add(to);
        open.push(to);
      }
  return seen;
}

/** A box and all that follows from it. */
export const after = (id: string, edges: Edge[]) => reached(id, edges, (edge) => [edge.from, edge.to]);

/** A box and all that leads to it. */
export const before = (id: string, edges: Edge[]) => reached(id, edges, (edge) => [edge.to, edge.from]);

/** The box itself, all that leads to it and all that follows. */
export const related = (id: string, edges: Edge[]) => new Set([...before(id, edges), ...after(id, edges)]);

/** The edges of all ways between two boxes, whichever comes first; none where there is no way. */
export function ways(one: string, other: string, edges: Edge[]): Edge[] {
  const forward = between(one, other, edges);
  return forward.length > 0 ? forward : between(other, one, edges);
}

function between(from: string, to: string, edges: Edge[]): Edge[] {
  const [follows, leads] = [after(from, edges), before(to, edges)];
  if (!follows.has(to)) return [];
  return edges.filter(
    (edge) => follows.has(edge.from) && leads.has(edge.from) && follows.has(edge.to) && leads.has(edge.to),
  );
}

/** One shortest way between two boxes, as the edges that one goes along. */
export function shortest(one: string, other: string, edges: Edge[]): Edge[] {
  const all = ways(one, other, edges);
  const [from, to] = after(one, all).has(other) ? [one, other] : [other, one];
  const came = new Map<string, Edge>();
  const open = [from];
  for (let at = open.shift(); at !== undefined && at !== to; at = open.shift())
    for (const edge of all)
      if (edge.from === at && edge.to !== from && !came.has(edge.to)) {
        came.set(edge.to, edge);
        open.push(edge.to);
      }
  const way: Edge[] = [];
  for (let edge = came.get(to); edge; edge = came.get(edge.from)) way.unshift(edge);
  return way;
}
