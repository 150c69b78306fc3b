// The typed client, made from the service's own description, and one stream of live events for the whole page.
import { QueryClient, useQuery } from '@tanstack/react-query';
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

/** Who is signed in, and what they may. */
export function useMe() {
  return useQuery({ queryKey: ['me'], queryFn: () => answered(api.GET('/api/v1/me')) });
}

/** How long events are gathered before pages ask again: a large run changes many times a second. */
const GATHER_MS = 200;

/** A run changed. */
interface Heard {
  /** Nothing: it is not known which runs changed. */
  run: string;
  /** It is the run's own state that changed, not one of its jobs. */
  whole: boolean;
}

/** What is heard when it is not known what was missed. */
const ANYTHING: Heard = { run: '', whole: true };

/**
 * Hears of runs that changed, by one stream for all tabs of a browser: it opens but a few connections to one place, and a
 * stream for each tab would use them up. Whichever tab has the lock holds the stream and tells the others; when it goes,
 * the next one gets the lock. Gives what ends it.
 */
function hear(heard: (what: Heard) => void): () => void {
  const channel = new BroadcastChannel('ordotaxis-live');
  const end = new AbortController();
  const asked = Date.now();
  channel.onmessage = (event) => heard(event.data as Heard);
  const tell = (what: Heard) => {
    heard(what);
    channel.postMessage(what);
  };
  const lead = () =>
    new Promise<void>((done) => {
      const stream = new EventSource('/api/v1/live');
      // A tab that takes over does not know what happened in between.
      if (Date.now() - asked > 1000) stream.addEventListener('open', () => tell(ANYTHING), { once: true });
      stream.addEventListener('change', (event) => {
        const { run, job } = JSON.parse(event.data) as Schemas['LiveEvent'];
        tell({ run, whole: !job });
      });
      const close = () => {
        stream.close();
        done();
      };
      end.signal.addEventListener('abort', close);
      if (end.signal.aborted) close();
    });
  // Browsers that know no locks have a stream for each tab.
  if (navigator.locks) navigator.locks.request('ordotaxis-live', { signal: end.signal }, lead).catch(() => undefined);
  else void lead();
  return () => {
    end.abort();
    channel.close();
  };
}

/** Asks again for what depends on a run. Lists, and what a project keeps, change with the run itself, not with each job. */
function askFor(run: string, whole: boolean) {
  queries.invalidateQueries({ queryKey: ['run', run] });
  const project = run.split('/')[0];
  if (!whole) return;
  queries.invalidateQueries({ queryKey: ['runs', project] });
  queries.invalidateQueries({ queryKey: ['kept', project] });
}

/** Asks again for whatever an event says has changed. The browser itself reconnects with the last event's id. */
export function useLive() {
  useEffect(() => {
    const runs = new Map<string, boolean>();
    let timer: number | undefined;
    const ask = () => {
      timer = undefined;
      queries.invalidateQueries({ queryKey: ['board'] });
      queries.invalidateQueries({ queryKey: ['slots'] });
      if (runs.has(ANYTHING.run)) {
        for (const key of ['run', 'runs', 'kept']) queries.invalidateQueries({ queryKey: [key] });
      } else {
        for (const [run, whole] of runs) askFor(run, whole);
      }
      runs.clear();
    };
    const heard = ({ run, whole }: Heard) => {
      runs.set(run, whole || runs.get(run) === true);
      timer ??= window.setTimeout(ask, GATHER_MS);
    };
    let stop = hear(heard);
    // A page that the browser keeps for going back must not keep its stream.
    const hide = () => stop();
    const show = (event: PageTransitionEvent) => {
      if (!event.persisted) return;
      stop = hear(heard);
      heard(ANYTHING);
    };
    window.addEventListener('pagehide', hide);
    window.addEventListener('pageshow', show);
    return () => {
      window.removeEventListener('pagehide', hide);
      window.removeEventListener('pageshow', show);
      stop();
      window.clearTimeout(timer);
    };
  }, []);
}
