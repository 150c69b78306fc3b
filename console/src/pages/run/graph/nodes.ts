// The boxes of a plan and what leads from one to another: a job, a matrix with its cells, or a whole stage that is folded.
import type { JobView, PlanView } from '../../../api/client';
import { type Group, grouped, jobOf } from '../lanes/groups';

export type Because = PlanView['jobs'][number]['waits_for'][number]['because'];

export interface Node {
  /** A job's name without its cell; of a folded stage its name with a colon before it. */
  id: string;
  kind: 'job' | 'stage';
  stage: string;
  name: string;
  jobs: JobView[];
}

export interface Edge {
  from: string;
  to: string;
  because: Because;
}

/** More boxes than this begin with their stages folded. */
export const MANY = 150;

export const stageId = (stage: string) => `:${stage}`;

/** The boxes in the order of the plan; of folded stages one each. */
export function nodesOf(jobs: JobView[], folded: ReadonlySet<string>): Node[] {
  const nodes: Node[] = [];
  const stages = new Map<string, Node>();
  for (const group of grouped(jobs)) {
    if (!folded.has(group.stage)) {
      nodes.push(ofGroup(group));
      continue;
    }
    const known = stages.get(group.stage);
    if (known) known.jobs.push(...group.cells);
    else {
      const node: Node = {
        id: stageId(group.stage),
        kind: 'stage',
        stage: group.stage,
        name: group.stage,
        jobs: [...group.cells],
      };
      stages.set(group.stage, node);
      nodes.push(node);
    }
  }
  return nodes;
}

const ofGroup = (group: Group): Node => ({
  id: group.name,
  kind: 'job',
  stage: group.stage,
  name: group.name,
  jobs: group.cells,
});

/** What leads from box to box, each pair once; only what others do not imply. */
export function edgesOf(plan: PlanView, folded: ReadonlySet<string>): Edge[] {
  const stages = new Map(plan.jobs.map((job) => [job.id, job.stage]));
  const box = (id: string) => {
    const stage = stages.get(id) ?? '';
    return folded.has(stage) ? stageId(stage) : jobOf(id);
  };
  const edges = new Map<string, Edge>();
  for (const job of plan.jobs)
    for (const wait of job.waits_for) {
      const edge = { from: box(wait.job), to: box(job.id), because: wait.because };
      const name = `${edge.from}\n${edge.to}`;
      if (!wait.implied && edge.from !== edge.to && !edges.has(name)) edges.set(name, edge);
    }
  return [...edges.values()];
}

/** The stages that begin folded: of a large plan all but those where something failed, or the chosen job is. */
export function foldedAtFirst(jobs: JobView[], chosen: string | undefined): Set<string> {
  if (grouped(jobs).length <= MANY) return new Set();
  const open = new Set(
    jobs.filter((job) => job.id === chosen || job.state === 'failed' || job.state === 'lost').map((job) => job.stage),
  );
  return new Set(jobs.map((job) => job.stage).filter((stage) => !open.has(stage)));
}
