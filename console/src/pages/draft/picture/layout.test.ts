import { expect, test } from 'vitest';
import { curve, layoutOf, next, type Outline, sideOf } from './layout';

const job = (name: string, links: [string, string | null][] = []) => ({
  job: name,
  line: 1,
  gives: [],
  keys: {},
  links: links.map(([of, artifact]) => ({ of, artifact })),
});

const outline: Outline = {
  stages: [
    { name: 'build', level: 0, jobs: [job('build.gauge'), job('build.extras')] },
    {
      name: 'test',
      level: 1,
      jobs: [
        job('test.unit', [
          ['build.gauge', 'firmware'],
          ['build.gauge', 'map'],
        ]),
      ],
    },
    { name: 'lint', level: 1, jobs: [job('lint.style', [['build', null]])] },
    {
      name: 'ship',
      level: 2,
      jobs: [
        job('ship.it', [
          ['test.unit', null],
          ['never.there', null],
        ]),
      ],
    },
  ],
};

test('stages stand by their level and keep their jobs within them', () => {
  const layout = layoutOf(outline);
  const of = (name: string) => layout.stages.get(name) ?? layout.jobs.get(name) ?? { x: 0, y: 0, width: 0, height: 0 };
  expect(of('test').x).toBe(of('lint').x);
  expect(of('lint').y).toBeGreaterThan(of('test').y + of('test').height);
  for (const stage of outline.stages)
    for (const { job } of stage.jobs) {
      const [outer, inner] = [of(stage.name), of(job)];
      expect(inner.y + inner.height).toBeLessThanOrEqual(outer.y + outer.height);
      expect(inner.x).toBeGreaterThan(outer.x);
    }
  expect(layout.links.map((link) => `${link.from} ${link.kind} ${link.to} ${link.words}`)).toEqual([
    'build.gauge takes test.unit firmware, map',
    'build after lint.style ',
    'test.unit after ship.it ',
  ]);
  expect(layoutOf({ stages: [] })).toMatchObject({ width: 16, height: 16 });
});

test('arrow keys go to what is next in their direction', () => {
  const layout = layoutOf(outline);
  const way = ['ArrowDown', 'ArrowRight', 'ArrowDown', 'ArrowDown', 'ArrowRight', 'ArrowUp', 'ArrowUp'];
  let at = 'build.gauge';
  const seen = way.map((key) => {
    at = next(layout, at, key) ?? at;
    return at;
  });
  expect(seen).toEqual(['build.extras', 'test.unit', 'lint', 'lint.style', 'ship.it', 'ship', 'ship']);
  expect(next(layout, 'never', 'ArrowUp')).toBeUndefined();
  expect(next(layout, 'build.gauge', 'x')).toBeUndefined();
});

test('a line goes round the outside where its end is not to the right', () => {
  const box = (x: number, y: number) => ({ x, y, width: 100, height: 30 });
  expect(curve(box(0, 0), box(200, 0))).toBe('M100 15C150 15 150 15 200 15');
  expect(curve(box(0, 0), box(0, 60))).toBe('M100 15C134 15 134 75 100 75');
  expect(['before', 'beside', 'after']).toEqual([5, 50, 95].map((x) => sideOf(box(0, 0), x)));
});
