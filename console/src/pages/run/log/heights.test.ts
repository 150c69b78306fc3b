import { expect, test } from 'vitest';
import { Heights } from './heights';

/** The same from a plain list of how many rows each line has. */
class Plain {
  rows: number[];
  constructor(
    lines: number,
    readonly size: number,
  ) {
    this.rows = new Array(lines).fill(1);
  }
  set(page: number, rows: number[]) {
    rows.forEach((count, at) => {
      this.rows[page * this.size + at] = Math.max(1, count);
    });
  }
  above(line: number): number {
    return this.rows.slice(0, line).reduce((sum, one) => sum + one, 0) + Math.max(0, line - this.rows.length);
  }
  lineAt(row: number): number {
    let line = 0;
    while (this.above(line + 1) <= row) line += 1;
    return line;
  }
}

/** Numbers that come again with each run. */
function seeded(seed: number) {
  let state = seed;
  return (below: number) => {
    state = (state * 1_103_515_245 + 12_345) % 2 ** 31;
    return state % below;
  };
}

test('places agree with a plain list, whatever was read in whatever order', () => {
  for (let seed = 1; seed <= 40; seed += 1) {
    const next = seeded(seed);
    const size = 1 + next(7);
    const [heights, plain] = [new Heights(size), new Plain(60, size)];
    for (let step = 0; step < 12; step += 1) {
      const page = next(Math.floor(60 / size));
      const rows = Array.from({ length: page === 0 ? Math.min(size, 1 + next(size)) : size }, () => next(5));
      heights.set(page, rows);
      plain.set(page, rows);
      // A page may have become shorter to what is known of it; the rest has one row a line.
      for (let at = rows.length; at < size; at += 1) plain.rows[page * size + at] = 1;
      for (const line of [0, 1, next(60), next(60), 59, 70])
        expect(heights.above(line), `seed ${seed}`).toBe(plain.above(line));
      for (const row of [0, next(90), next(90), 200])
        expect(heights.lineAt(row), `seed ${seed} row ${row}`).toBe(plain.lineAt(row));
    }
  }
});
