import { expect, test } from 'vitest';
import type { JobView, PlanView } from '../../../api/client';
import { layoutOf, neighbour } from './layout';
import { edgesOf, foldedAtFirst, nodesOf } from './nodes';
import { after, before, related, shortest, ways } from './way';

const job = (id: string, state: JobView['state'] = 'passed') =>
  ({ id, stage: id.split('.')[0], state, attempts: [] }) as unknown as JobView;
const jobs = ['build.a', 'build.b[1]', 'build.b[2]', 'test.u', 'test.r', 'ship.it'].map((id) => job(id));
const waits: Record<string, [string, string, boolean?][]> = {
  'test.u': [['build.a', 'takes']],
  'test.r': [
    ['build.b[1]', 'takes'],
    ['build.b[2]', 'takes'],
  ],
  'ship.it': [
    ['test.u', 'order'],
    ['test.r', 'after'],
    ['build.a', 'order', true],
  ],
};
const plan = {
  jobs: jobs.map((one) => ({
    id: one.id,
    stage: one.stage,
    waits_for: (waits[one.id] ?? []).map(([other, because, implied = false]) => ({ job: other, because, implied })),
  })),
} as unknown as PlanView;
const none = new Set<string>();
const edges = edgesOf(plan, none);
const told = (of: { from: string; to: string }[]) => of.map((edge) => `${edge.from}>${edge.to}`);

test('cells are one box, and what others imply is no line', () => {
  expect(nodesOf(jobs, none).map((node) => `${node.id} ${node.jobs.length}`)).toEqual([
    'build.a 1',
    'build.b 2',
    'test.u 1',
    'test.r 1',
    'ship.it 1',
  ]);
  expect(told(edges)).toEqual(['build.a>test.u', 'build.b>test.r', 'test.u>ship.it', 'test.r>ship.it']);
});

test('a folded stage is one box that keeps its lines', () => {
  const folded = new Set(['build', 'test']);
  expect(nodesOf(jobs, folded).map((node) => node.id)).toEqual([':build', ':test', 'ship.it']);
  expect(told(edgesOf(plan, folded))).toEqual([':build>:test', ':test>ship.it']);
  const many = Array.from({ length: 200 }, (_, at) => job(`stage${at % 4}.job${at}`, at === 6 ? 'failed' : 'passed'));
  expect([...foldedAtFirst(many, 'stage1.job1')].sort()).toEqual(['stage0', 'stage3']);
  expect(foldedAtFirst(jobs, undefined).size).toBe(0);
});

test('all before, all after, and the ways between', () => {
  expect([...before('ship.it', edges)]).toHaveLength(5);
  expect([...after('build.a', edges)].sort()).toEqual(['build.a', 'ship.it', 'test.u']);
  expect([...related('test.u', edges)].sort()).toEqual(['build.a', 'ship.it', 'test.u']);
  expect(told(ways('build.a', 'ship.it', edges))).toEqual(['build.a>test.u', 'test.u>ship.it']);
  expect(told(shortest('ship.it', 'build.b', edges))).toEqual(['build.b>test.r', 'test.r>ship.it']);
  expect(ways('test.u', 'test.r', edges)).toEqual([]);
  expect(shortest('test.u', 'test.r', edges)).toEqual([]);
});

test('boxes stand in layers, apart from each other, and arrows lead from one to the next', () => {
  const layout = layoutOf(nodesOf(jobs, none), edges);
  const y = (id: string) => layout.boxes.get(id)?.y ?? 0;
  expect(y('build.a')).toBeLessThan(y('test.u'));
  expect(y('test.u')).toBeLessThan(y('ship.it'));
  const boxes = [...layout.boxes.values()];
  boxes.forEach((one, at) => {
    for (const other of boxes.slice(at + 1)) {
      const apart =
        one.x + one.width <= other.x ||
        other.x + other.width <= one.x ||
        one.y + one.height <= other.y ||
        other.y + other.height <= one.y;
      expect(apart).toBe(true);
    }
  });
  expect(neighbour(layout, 'build.a', 'down')).toBe('test.u');
  expect(neighbour(layout, 'test.u', 'up')).toBe('build.a');
  expect(neighbour(layout, 'ship.it', 'down')).toBeUndefined();
  const [left, right] = ['test.u', 'test.r'].sort(
    (a, b) => (layout.boxes.get(a)?.x ?? 0) - (layout.boxes.get(b)?.x ?? 0),
  );
  expect(neighbour(layout, left ?? '', 'right')).toBe(right);
  expect(neighbour(layout, left ?? '', 'left')).toBeUndefined();
});
