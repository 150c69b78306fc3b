// The typed client, made from the service's own description, and one stream of live events for the whole page.
import { QueryClient } from '@tanstack/react-query';
import createClient from 'openapi-fetch';
import { useEffect } from 'react';
import type { components, paths } from './schema';

export type Schemas = components['schemas'];
export type RunView = Schemas['RunView'];
export type JobView = Schemas['JobView'];
export type PhaseView = Schemas['PhaseView'];
export type PlanView = Schemas['PlanView'];
export type BoardLine = Schemas['BoardLine'];

export const api = createClient<paths>({ baseUrl: '' });

/** What the service said is wrong, in its own words. */
export class Refused extends Error {
  constructor(
    readonly status: number,
    detail: string,
  ) {
    super(detail);
  }
}

/** Unwraps an answer; a refusal becomes an error that pages can show. */
export async function answered<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  const { data, error, response } = await call;
  if (data !== undefined) return data;
  const detail = (error as { detail?: string } | undefined)?.detail;
  throw new Refused(response.status, detail ?? `the service answered ${response.status}`);
}

export const queries = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 10_000,
      retry: (count, error) => count < 3 && !(error instanceof Refused && error.status < 500),
    },
  },
});

/** How long events are gathered before pages ask anew: a large run changes many times a second. */
const GATHER_MS = 200;

/** Asks anew for whatever an event says has changed. The browser itself reconnects with the last event's id. */
export function useLive() {
  useEffect(() => {
    const stream = new EventSource('/api/v1/live');
    const runs = new Set<string>();
    let timer: number | undefined;
    const ask = () => {
      timer = undefined;
      queries.invalidateQueries({ queryKey: ['board'] });
      queries.invalidateQueries({ queryKey: ['runs'] });
      for (const run of runs) queries.invalidateQueries({ queryKey: ['run', run] });
      runs.clear();
    };
    stream.addEventListener('change', (event) => {
      runs.add((JSON.parse(event.data) as Schemas['LiveEvent']).run);
      timer ??= window.setTimeout(ask, GATHER_MS);
    });
    return () => {
      stream.close();
      window.clearTimeout(timer);
    };
  }, []);
}
