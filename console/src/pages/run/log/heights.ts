// Where lines stand in a log of which only some texts are known: lines are counted in rows, and a line that is wrapped
// has several. Of lines that were not read yet one row is assumed.

export class Heights {
  /** By page: how many rows stand above each of its lines within the page, and in all of it. */
  private pages = new Map<number, Uint32Array>();
  /** Rows beyond one a line in the pages before; made anew when a page changes. */
  private sums: { page: number; extra: number }[] | undefined;

  constructor(readonly size: number) {}

  /** The rows of a page's lines. */
  set(page: number, rows: number[]) {
    const above = new Uint32Array(rows.length + 1);
    rows.forEach((count, at) => {
      above[at + 1] = (above[at] ?? 0) + Math.max(1, count);
    });
    this.pages.set(page, above);
    this.sums = undefined;
  }

  /** How many rows stand above a line of the log. */
  above(line: number): number {
    const page = Math.floor(line / this.size);
    const within = line - page * this.size;
    const known = this.pages.get(page);
    const own = known
      ? (known[Math.min(within, known.length - 1)] ?? 0) + Math.max(0, within - (known.length - 1))
      : within;
    return page * this.size + this.extraBefore(page) + own;
  }

  /** The line that a row belongs to. */
  lineAt(row: number): number {
    let [low, high] = [0, Math.max(0, Math.floor(row))];
    while (low < high) {
      const middle = Math.ceil((low + high) / 2);
      if (this.above(middle) <= row) low = middle;
      else high = middle - 1;
    }
    return low;
  }

  private extraBefore(page: number): number {
    this.sums ??= this.summed();
    let found = 0;
    let [low, high] = [0, this.sums.length];
    while (low < high) {
      const middle = (low + high) >> 1;
      const sum = this.sums[middle];
      if (sum && sum.page < page) {
        found = sum.extra;
        low = middle + 1;
      } else high = middle;
    }
    return found;
  }

  private summed() {
    let extra = 0;
    return [...this.pages.keys()]
      .sort((a, b) => a - b)
      .map((page) => {
        const rows = this.pages.get(page);
        if (rows) extra += (rows.at(-1) ?? 0) - (rows.length - 1);
        return { page, extra };
      });
  }
}
