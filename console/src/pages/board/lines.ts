// Which lines of the board are shown, in which order and in which groups.
import type { BoardLine } from '../../api/client';

/** Which lines: all, or only those that are so. */
export type Only = 'all' | 'mine' | 'broken' | 'running';
/** What lines are grouped by. */
export type By = 'nothing' | 'verdict' | 'home';

export interface Wanted {
  /** Words of which each must stand in a line. */
  words: string;
  only: Only;
  by: By;
  pins: string[];
  /** Names of groups that are folded. */
  folded: string[];
}

export type Row =
  | { kind: 'group'; name: string; lines: BoardLine[]; open: boolean }
  | { kind: 'line'; line: BoardLine; pinned: boolean };

export const isBroken = (line: BoardLine) => line.main === 'failed';
export const isRunning = (line: BoardLine) => line.now.length > 0;

/** How a main branch stands, as a group's name. */
function verdict(line: BoardLine): string {
  if (isBroken(line)) return 'Broken';
  if (isRunning(line)) return 'Running';
  return line.main ? 'Well' : 'No verdict yet';
}

const fits: Record<Only, (line: BoardLine) => boolean> = {
  all: () => true,
  mine: (line) => line.mine,
  broken: isBroken,
  running: isRunning,
};

/** All that words are looked for in. */
function textOf(line: BoardLine): string {
  const broke = line.broke
    ? `${line.broke.job ?? ''} ${line.broke.why} ${line.broke.author} ${line.broke.commit_title}`
    : '';
  return `${line.project} ${line.home} ${verdict(line)} ${line.main ?? ''} ${broke}`.toLowerCase();
}

/** The lines that are wanted: pinned ones first, then broken, then running, then by name. */
export function shown(all: BoardLine[], { words, only, pins }: Wanted): BoardLine[] {
  const wanted = words.toLowerCase().split(/\s+/).filter(Boolean);
  const rank = (line: BoardLine) =>
    (pins.includes(line.project) ? 0 : 4) + (isBroken(line) ? 0 : isRunning(line) ? 1 : 2);
  return all
    .filter((line) => fits[only](line) && (wanted.length === 0 || wanted.every((word) => textOf(line).includes(word))))
    .sort((a, b) => rank(a) - rank(b) || (a.project < b.project ? -1 : 1));
}

const VERDICTS = ['Broken', 'Running', 'Well', 'No verdict yet'];

/** The same as rows: each group's head, then its lines unless it is folded. Pinned lines stand above all groups. */
export function rowsOf(lines: BoardLine[], { by, pins, folded }: Wanted): Row[] {
  const row = (line: BoardLine): Row => ({ kind: 'line', line, pinned: pins.includes(line.project) });
  if (by === 'nothing') return lines.map(row);
  const groups = new Map<string, BoardLine[]>();
  const above: Row[] = [];
  for (const line of lines) {
    if (pins.includes(line.project)) above.push(row(line));
    else {
      const name = by === 'verdict' ? verdict(line) : line.home || 'elsewhere';
      groups.set(name, [...(groups.get(name) ?? []), line]);
    }
  }
  const order = (name: string) => (by === 'verdict' ? VERDICTS.indexOf(name) : 0);
  const names = [...groups.keys()].sort((a, b) => order(a) - order(b) || (a < b ? -1 : 1));
  const rows = names.flatMap((name): Row[] => {
    const own = groups.get(name) ?? [];
    const open = !folded.includes(name);
    return [{ kind: 'group', name, lines: own, open }, ...(open ? own.map(row) : [])];
  });
  return [...above, ...rows];
}

/** The board after some of its projects were asked for again: those that were asked for and did not come are gone. */
export function merged(all: BoardLine[], asked: string[], came: BoardLine[]): BoardLine[] {
  const fresh = new Map(came.map((line) => [line.project, line]));
  const gone = new Set(asked.filter((project) => !fresh.has(project)));
  const kept = all.filter((line) => !gone.has(line.project)).map((line) => fresh.get(line.project) ?? line);
  const known = new Set(kept.map((line) => line.project));
  return [...kept, ...came.filter((line) => !known.has(line.project))];
}

/** How the main branches stand, in a sentence. */
export function headline(lines: BoardLine[]): string {
  const [broken, all] = [lines.filter(isBroken).length, lines.length];
  if (all === 1) return `The main branch is ${broken === 1 ? 'broken' : 'well'}`;
  if (broken === 0) return `All ${all.toLocaleString('en')} main branches are well`;
  return `${broken} of ${all.toLocaleString('en')} main branches ${broken === 1 ? 'is' : 'are'} broken`;
}
