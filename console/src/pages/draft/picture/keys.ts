// A job's keys as fields of a form: what each is written as, and what is typed for it. What is too much for a field is
// written in the text.
export type Kind = 'text' | 'flag' | 'number' | 'list' | 'map' | 'lists' | 'steps';

export interface Key {
  key: string;
  kind: Kind;
  /** An example. */
  such?: string;
}

export const keys: Key[] = [
  { key: 'steps', kind: 'steps' },
  { key: 'gives', kind: 'lists', such: 'firmware = out/gauge-*' },
  { key: 'where', kind: 'list', such: 'linux' },
  { key: 'tools', kind: 'map', such: 'make = >=4' },
  { key: 'image', kind: 'text', such: 'debian:12' },
  { key: 'env', kind: 'map', such: 'GAUGE_UNITS = mm' },
  { key: 'secrets', kind: 'list', such: 'STATION_KEY' },
  { key: 'if', kind: 'text', such: 'ref.branch == "main"' },
  { key: 'each', kind: 'lists', such: 'cc = gcc, clang' },
  { key: 'at_once', kind: 'number' },
  { key: 'reports', kind: 'lists', such: 'junit = out/*.xml' },
  { key: 'deploys', kind: 'text', such: 'north-pier' },
  { key: 'timeout', kind: 'text', such: '20m' },
  { key: 'upon', kind: 'list', such: 'passed, failed' },
  { key: 'by_hand', kind: 'flag' },
  { key: 'eager', kind: 'flag' },
  { key: 'may_fail', kind: 'flag' },
  { key: 'network', kind: 'flag' },
  { key: 'turn', kind: 'text', such: 'ship-{each.station}' },
  { key: 'cores', kind: 'number' },
  { key: 'memory', kind: 'text', such: '4GiB' },
];

/** What the picture itself shows. */
const drawn = ['takes', 'after'];

/** Keys that a job has and no field shows: they are in the text. */
export const others = (job: Record<string, unknown>) =>
  Object.keys(job).filter((key) => !drawn.includes(key) && !keys.some((one) => one.key === key));

const isScalar = (value: unknown) => ['string', 'number', 'boolean'].includes(typeof value);
const isTable = (value: unknown): value is Record<string, unknown> =>
  typeof value === 'object' && value !== null && !Array.isArray(value);
const isList = (value: unknown): value is unknown[] => Array.isArray(value) && value.every(isScalar);

/** What stands in the field; nothing where the value is too much for one. */
export function shown(kind: Kind, value: unknown): string | undefined {
  if (value === undefined) return '';
  switch (kind) {
    case 'text':
    case 'number':
      return isScalar(value) ? String(value) : undefined;
    case 'flag':
      return typeof value === 'boolean' ? String(value) : undefined;
    case 'list':
      return isList(value) ? value.join(', ') : undefined;
    case 'map':
      return isTable(value) && Object.values(value).every(isScalar)
        ? Object.entries(value)
            .map(([name, one]) => `${name} = ${one}`)
            .join('\n')
        : undefined;
    case 'lists':
      return isTable(value) && Object.values(value).every(isList)
        ? Object.entries(value)
            .map(([name, list]) => `${name} = ${(list as unknown[]).join(', ')}`)
            .join('\n')
        : undefined;
    case 'steps':
      return Array.isArray(value) && value.every(isStep) ? value.map(commandOf).join('\n') : undefined;
  }
}

type Step = string | { run: string };

/** A command over several lines has no line of its own. */
function isStep(step: unknown): step is Step {
  const run = isTable(step) ? step.run : step;
  return typeof run === 'string' && !run.includes('\n');
}

const commandOf = (step: Step) => (typeof step === 'string' ? step : step.run);

const words = (text: string) =>
  text
    .split(',')
    .map((one) => one.trim())
    .filter(Boolean);

/** `NAME = WHAT` a line. */
function pairs<T>(text: string, read: (value: string) => T): Record<string, T> | string {
  const found: Record<string, T> = {};
  for (const line of text.split('\n').filter((line) => line.trim())) {
    const at = line.indexOf('=');
    if (at < 1) return `“${line.trim()}” is not NAME = VALUE`;
    found[line.slice(0, at).trim()] = read(line.slice(at + 1).trim());
  }
  return found;
}

/** What a field says; null takes the key out. `wrong` in words where it cannot be read. */
export function read(kind: Kind, text: string, before: unknown): { value: unknown } | { wrong: string } {
  if (text.trim() === '') return { value: null };
  switch (kind) {
    case 'text':
      return { value: text.trim() };
    case 'number':
      return /^\s*\d{1,9}\s*$/.test(text)
        ? { value: Number(text) }
        : { wrong: `“${text.trim()}” is not a whole number` };
    case 'flag':
      return { value: text === 'true' };
    case 'list':
      return { value: words(text) };
    case 'steps':
      return { value: steps(text, before) };
    default: {
      const found = kind === 'map' ? pairs(text, String) : pairs(text, words);
      return typeof found === 'string' ? { wrong: found } : { value: found };
    }
  }
}

/** A command that was there keeps what else its step says; the nth stays the nth where it is another one now. */
function steps(text: string, before: unknown): unknown[] {
  const old = (Array.isArray(before) ? before : []).filter(isStep);
  const lines = text.split('\n').filter((line) => line.trim());
  const known = new Map(old.map((step) => [commandOf(step), step]));
  return lines.map((line, at) => {
    const same = known.get(line);
    if (same !== undefined) return same;
    const was = old[at];
    const gone = was !== undefined && !lines.includes(commandOf(was));
    return gone && typeof was === 'object' ? { ...was, run: line } : line;
  });
}
