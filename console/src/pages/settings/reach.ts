// Where a secret or a connection goes, as it is typed and as it is read.
import type { Schemas } from '../../api/client';
import type { Field, Given } from '../../parts/Act';

type Reach = Schemas['ReachAsk'];

const list = (text: string | undefined) => {
  const all = (text ?? '').split(/[\s,]+/).filter(Boolean);
  return all.length > 0 ? all : null;
};

export const reachFields: Field[] = [
  { key: 'branches', label: 'Only on these branches', placeholder: 'main, release/**; empty: all' },
  { key: 'tags', label: 'Only for these tags', placeholder: 'v*; empty: all' },
  { key: 'pipelines', label: 'Only in these pipelines', placeholder: 'main, nightly; empty: all' },
];

export const reachOf = (given: Given): Reach => ({
  branches: list(given.branches),
  tags: list(given.tags),
  pipelines: list(given.pipelines),
});

/** In words; nothing where it goes everywhere. */
export function reachWords(reach: Reach): string {
  const part = (what: string, of: string[] | null | undefined) =>
    of && of.length > 0 ? `${what} ${of.join(', ')}` : '';
  const all = [part('branches', reach.branches), part('tags', reach.tags), part('pipelines', reach.pipelines)];
  return all.filter(Boolean).join('; ') || 'everywhere';
}
