// Completion from the language's schema: keys of the table that the cursor is in, values where the schema lists them,
// and the file's own jobs and stages where a job is named.
import type { Completion, CompletionContext, CompletionResult } from '@codemirror/autocomplete';

export type Schema = {
  type?: string | string[];
  description?: string;
  enum?: string[];
  properties?: Record<string, Schema>;
  patternProperties?: Record<string, Schema>;
  additionalProperties?: Schema | boolean;
  items?: Schema;
  anyOf?: Schema[];
};

const header = /^\s*\[\[?([^\]]+)\]\]?\s*(#.*)?$/;

export function complete(context: CompletionContext, schema: Schema | undefined): CompletionResult | null {
  if (!schema) return null;
  const line = context.state.doc.lineAt(context.pos);
  const before = line.text.slice(0, context.pos - line.from);
  if (before.includes('#') && !before.includes('"')) return null;
  const path = tableAt(context);
  const open = before.match(/^\s*\[\[?([\w.-]*)$/);
  if (open) return { from: line.from + before.length - (open[1]?.length ?? 0), options: headers(context) };
  const key = before.match(/^\s*([\w-]*)$/);
  if (key) {
    if (!key[1] && !context.explicit) return null;
    return { from: context.pos - (key[1]?.length ?? 0), options: keysOf(below(schema, path)) };
  }
  const inner = before.match(/^\s*([\w-]+)\s*=.*[{,]\s*([\w-]*)$/);
  if (inner && before.lastIndexOf('{') > before.lastIndexOf('}')) {
    const at = below(schema, [...path, inner[1] ?? '']);
    return { from: context.pos - (inner[2]?.length ?? 0), options: keysOf(item(at)) };
  }
  const value = before.match(/^\s*([\w-]+)\s*=.*"([^"]*)$/);
  if (value) return values(context, schema, [...path, value[1] ?? ''], value[2] ?? '');
  return null;
}

/** The table that a line stands in, as its keys. */
function tableAt(context: CompletionContext): string[] {
  for (let number = context.state.doc.lineAt(context.pos).number; number > 0; number--) {
    const found = context.state.doc.line(number).text.match(header);
    if (found?.[1]) return found[1].split('.').map((part) => part.trim().replace(/"/g, ''));
  }
  return [];
}

function below(schema: Schema | undefined, path: string[]): Schema | undefined {
  let at = schema;
  for (const part of path) {
    const table = item(at);
    const free = Object.values(table?.patternProperties ?? {})[0];
    const any = typeof table?.additionalProperties === 'object' ? table.additionalProperties : undefined;
    at = table?.properties?.[part] ?? free ?? any;
  }
  return at;
}

/** The table in it: itself, of a list's items, or the alternative that is one. */
function item(schema: Schema | undefined): Schema | undefined {
  if (!schema) return undefined;
  if (schema.items) return item(schema.items);
  if (schema.anyOf) return schema.anyOf.map(item).find((one) => one?.properties);
  return schema;
}

function keysOf(schema: Schema | undefined): Completion[] {
  const known = Object.entries(item(schema)?.properties ?? {});
  return known.map(([label, of]) => ({ label, info: of.description, type: 'property' }));
}

function headers(context: CompletionContext): Completion[] {
  const stages = [...names(context)].map((job) => `job.${job.split('.')[0]}.`);
  const labels = new Set(['starts', 'env', 'defaults', 'job.', 'stage.', 'pattern.', 'borrow.', ...stages]);
  return [...labels].map((label) => ({ label, type: 'class' }));
}

/** The file's jobs, as STAGE.NAME. */
function names(context: CompletionContext): Set<string> {
  const found = context.state.doc.toString().matchAll(/^\s*\[job\.([\w-]+\.[\w-]+)\]/gm);
  return new Set([...found].map((match) => match[1] ?? ''));
}

function values(context: CompletionContext, schema: Schema, path: string[], typed: string): CompletionResult | null {
  const from = context.pos - typed.length;
  const at = below(schema, path);
  const choices = at?.enum ?? at?.items?.enum ?? at?.anyOf?.flatMap((one) => one.enum ?? []);
  if (choices?.length) return { from, options: choices.map((label) => ({ label, type: 'enum' })) };
  const key = path.at(-1);
  if (key !== 'after' && key !== 'takes' && key !== 'from') return null;
  const jobs = [...names(context)];
  const stages = key === 'after' ? new Set(jobs.map((job) => job.split('.')[0] ?? '')) : [];
  return { from, options: [...jobs, ...stages].map((label) => ({ label, type: 'variable' })) };
}
