import { expect, test } from 'vitest';
import { at, momentAt, moved, ticks, within, zoomed } from './time';

const all = { from: 1_000, to: 11_000 };

test('places and moments are each other’s reverse', () => {
  expect(at(all, 6_000)).toBe(50);
  expect(momentAt(all, 50)).toBe(6_000);
  expect([at(all, 0), at(all, 99_999)]).toEqual([0, 100]);
  expect(at({ from: 5, to: 5 }, 5)).toBe(0);
});

test('what stands under the pointer stays there, and nothing leaves the run', () => {
  const closer = zoomed(all, all, 3_000, 4);
  expect(closer.to - closer.from).toBe(2_500);
  expect(at(closer, 3_000)).toBeCloseTo(20);
  expect(zoomed(closer, all, 3_000, 0.01)).toEqual(all);
  expect(within({ from: -500, to: 500 }, all)).toEqual({ from: 1_000, to: 2_000 });
  expect(within({ from: 10_900, to: 12_900 }, all)).toEqual({ from: 9_000, to: 11_000 });
  expect(moved(closer, all, 100).to).toBe(11_000);
  const least = zoomed(all, all, 6_000, 1e9);
  expect(least.to - least.from).toBe(20);
});

test('ticks are round, and few enough for their words', () => {
  expect(ticks(all, 1_000)).toEqual([0, 2000, 4000, 6000, 8000, 10_000]);
  expect(ticks({ from: 4_100, to: 4_400 }, 1_000)).toEqual([3100, 3150, 3200, 3250, 3300, 3350, 3400]);
  expect(ticks({ from: 0, to: 90_000_000 }, 0)).toHaveLength(7);
  expect(ticks({ from: 0, to: 3_300 }, 0, 4)).toEqual([0, 1000, 2000, 3000]);
  expect(ticks({ from: 0, to: 3_300 }, 0, 1)).toEqual([0]);
  for (const span of [1, 33, 777, 12_345, 987_654, 55_555_555]) {
    const found = ticks({ from: 0, to: span }, 0);
    expect(found.length, `${span}`).toBeLessThanOrEqual(8);
    expect(found.length, `${span}`).toBeGreaterThan(0);
  }
});
