// Where stages, their jobs and the lines between them stand: a column for each level of the order, the stages of a level
// one below the other, their jobs within.
import type { Schemas } from '../../../api/client';

export type Outline = Schemas['Outline'];
export type Stage = Schemas['OutlineStage'];
export type Job = Schemas['OutlineJob'];

export interface Box {
  x: number;
  y: number;
  width: number;
  height: number;
}

export interface Link {
  from: string;
  to: string;
  kind: 'takes' | 'after';
  /** What is taken: one line for all that goes from one to the other. */
  words: string;
  d: string;
}

export interface Layout {
  stages: Map<string, Box>;
  jobs: Map<string, Box>;
  links: Link[];
  width: number;
  height: number;
}

const MARGIN = 16;
const WIDTH = 160;
const BETWEEN = 56;
export const HEAD = 32;
export const JOB = 30;
const GAP = 6;
const INNER = 10;
const BELOW = 20;

/** The room that a stage takes; the last line of it is where a job is added. */
const heightOf = (stage: Stage) => HEAD + (stage.jobs.length + 1) * (JOB + GAP) + INNER - GAP;

export function layoutOf(outline: Outline): Layout {
  const stages = new Map<string, Box>();
  const jobs = new Map<string, Box>();
  const ends: number[] = [];
  for (const stage of outline.stages) {
    const y = ends[stage.level] ?? MARGIN;
    const box = { x: MARGIN + stage.level * (WIDTH + BETWEEN), y, width: WIDTH, height: heightOf(stage) };
    stages.set(stage.name, box);
    ends[stage.level] = y + box.height + BELOW;
    stage.jobs.forEach((job, at) => {
      jobs.set(job.job, {
        x: box.x + INNER,
        y: y + HEAD + at * (JOB + GAP),
        width: WIDTH - 2 * INNER,
        height: JOB,
      });
    });
  }
  const right = Math.max(0, ...[...stages.values()].map((box) => box.x + box.width));
  return {
    stages,
    jobs,
    links: linksOf(outline, stages, jobs),
    width: right + MARGIN,
    height: Math.max(0, ...ends.filter(Number.isFinite)) + MARGIN,
  };
}

function linksOf(outline: Outline, stages: Map<string, Box>, jobs: Map<string, Box>): Link[] {
  const found = new Map<string, Link>();
  for (const job of outline.stages.flatMap((stage) => stage.jobs)) {
    for (const link of job.links) {
      const from = jobs.get(link.of) ?? stages.get(link.of);
      const to = jobs.get(job.job);
      if (!from || !to) continue;
      const kind = link.artifact ? 'takes' : 'after';
      const key = `${kind} ${link.of} ${job.job}`;
      const words = [found.get(key)?.words, link.artifact].filter(Boolean).join(', ');
      found.set(key, { from: link.of, to: job.job, kind, words, d: curve(from, to) });
    }
  }
  return [...found.values()];
}

/** From the right side of one to the left side of another; round the outside where that is not to the right of it. */
export function curve(from: Box, to: Box): string {
  const [x, y] = [from.x + from.width, from.y + Math.min(from.height, JOB) / 2];
  const goal = to.y + to.height / 2;
  if (to.x > x) {
    const bend = (to.x - x) / 2;
    return `M${x} ${y}C${x + bend} ${y} ${to.x - bend} ${goal} ${to.x} ${goal}`;
  }
  const right = to.x + to.width;
  const out = Math.max(x, right) + 34;
  return `M${x} ${y}C${out} ${y} ${out} ${goal} ${right} ${goal}`;
}

/** The job, or the stage, that one comes to by an arrow key. */
export function next(layout: Layout, at: string, key: string): string | undefined {
  const all = [...layout.stages, ...layout.jobs];
  const own = all.find(([name]) => name === at)?.[1];
  if (!own) return undefined;
  const ahead = {
    ArrowRight: (box: Box) => box.x - own.x - own.width,
    ArrowLeft: (box: Box) => own.x - box.x - box.width,
    ArrowDown: (box: Box) => (Math.abs(box.x - own.x) < WIDTH / 2 ? box.y - own.y : -1),
    ArrowUp: (box: Box) => (Math.abs(box.x - own.x) < WIDTH / 2 ? own.y - box.y : -1),
  }[key];
  if (!ahead) return undefined;
  const sideways = key === 'ArrowLeft' || key === 'ArrowRight';
  const among = sideways ? [...layout.jobs] : all;
  return among
    .map(([name, box]) => ({ name, far: ahead(box), off: Math.abs(box.y - own.y) }))
    .filter((one) => one.far > 0 && one.name !== at)
    .sort((one, other) => one.far - other.far || one.off - other.off)[0]?.name;
}

/** Where something is let go over a stage: on its left or right edge, or in the middle of it. */
export function sideOf(box: Box, x: number): Schemas['Side'] {
  const part = (x - box.x) / box.width;
  if (part < 0.3) return 'before';
  return part > 0.7 ? 'after' : 'beside';
}
