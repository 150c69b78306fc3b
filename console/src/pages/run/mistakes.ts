// The lines of a file around a place in it. Lines and columns count from 1, columns in Unicode characters.

export interface Span {
  line: number;
  column: number;
  end_line: number;
  end_column: number;
}
export interface Line {
  number: number;
  before: string;
  /** What is meant, where it is in this line. */
  within: string;
  after: string;
}

/** So many lines are shown before the place, and after it; of a long place the beginning. */
const AROUND = 2;
const MOST = 12;

export function around(text: string, span: Span): Line[] {
  const all = text.split('\n');
  if (all.at(-1) === '') all.pop();
  const last = Math.min(span.end_line, span.line + MOST);
  const [from, to] = [Math.max(1, span.line - AROUND), Math.min(all.length, last + AROUND)];
  const lines: Line[] = [];
  for (let number = from; number <= to; number += 1) {
    const chars = [...(all[number - 1] ?? '').replace(/\r$/, '')];
    const begin = number === span.line ? span.column - 1 : 0;
    const end = number === span.end_line ? span.end_column - 1 : chars.length;
    const inside = number >= span.line && number <= span.end_line;
    // A place without any text is the character there, or the line's end.
    const until = inside && begin >= end ? begin + 1 : end;
    lines.push({
      number,
      before: (inside ? chars.slice(0, begin) : chars).join(''),
      within: inside ? chars.slice(begin, until).join('') || ' ' : '',
      after: inside ? chars.slice(until).join('') : '',
    });
  }
  return lines;
}
