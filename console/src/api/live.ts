// What happens, as it happens: one stream of events for all tabs of a browser, the questions that pages ask again because
// of it, and whether the service can be reached at all.
import { useEffect, useRef, useSyncExternalStore } from 'react';
import { queries, type Schemas } from './client';

/** How long events are gathered before pages ask again: a large run changes many times a second. */
const GATHER_MS = 200;

/** A run changed. */
interface Heard {
  /** Nothing: it is not known which runs changed. */
  run: string;
  /** The job that changed; none where it is the run's own state. */
  job?: string;
}

/** What tabs tell each other. */
type Told = Heard | { reached: boolean };

/** What is heard when it is not known what was missed. */
const ANYTHING: Heard = { run: '' };

/** Whether the stream is open; since when it is not. */
let away: number | undefined;
const watchers = new Set<() => void>();

function setReached(reached: boolean) {
  if (reached === (away === undefined)) return;
  away = reached ? undefined : Date.now();
  for (const tell of watchers) tell();
}

/** Since when the service cannot be reached; nothing while it can. */
export function useAway(): number | undefined {
  return useSyncExternalStore(
    (tell) => {
      watchers.add(tell);
      return () => watchers.delete(tell);
    },
    () => away,
  );
}

/**
 * Hears of runs that changed, by one stream for all tabs of a browser: it opens but a few connections to one place, and a
 * stream for each tab would use them up. Whichever tab has the lock holds the stream and tells the others; when it goes,
 * the next one gets the lock. Gives what ends it.
 */
function hear(heard: (what: Heard) => void): () => void {
  const channel = new BroadcastChannel('ordotaxis-live');
  const end = new AbortController();
  const asked = Date.now();
  const take = (told: Told) => ('reached' in told ? setReached(told.reached) : heard(told));
  channel.onmessage = (event) => take(event.data as Told);
  const tell = (told: Told) => {
    take(told);
    channel.postMessage(told);
  };
  const lead = () => new Promise<void>((done) => follow(tell, Date.now() - asked > 1000, end.signal, done));
  // Browsers that know no locks have a stream for each tab.
  if (navigator.locks) navigator.locks.request('ordotaxis-live', { signal: end.signal }, lead).catch(() => undefined);
  else void lead();
  return () => {
    end.abort();
    channel.close();
  };
}

/** Waits longer with each failure, up to half a minute. */
const pause = (failures: number) => Math.min(30_000, 500 * 2 ** failures);

/** Whether the service answers somebody whom it does not know. */
const answers = () =>
  fetch('/api/v1/sign-in').then(
    ({ ok }) => ok,
    () => false,
  );

/** Holds the stream, and opens it again when it is gone for good; `missed`: what happened before is not known. */
function follow(tell: (told: Told) => void, missed: boolean, stop: AbortSignal, done: () => void) {
  let failures = 0;
  let last = '';
  let behind = missed;
  let timer: number | undefined;
  let stream: EventSource | undefined;
  const open = () => {
    stream = new EventSource(`/api/v1/live${last ? `?after=${last}` : ''}`);
    stream.addEventListener('open', () => {
      tell({ reached: true });
      if (behind || failures > 0) tell(ANYTHING);
      [behind, failures] = [false, 0];
    });
    stream.addEventListener('change', (event) => {
      const { run, job } = JSON.parse(event.data) as Schemas['LiveEvent'];
      last = event.lastEventId;
      tell(job ? { run, job } : { run });
    });
    const mine = stream;
    mine.addEventListener('error', async () => {
      // The browser goes on by itself after a broken connection; after an answer that is no stream it does not.
      if (mine.readyState !== EventSource.CLOSED) return tell({ reached: false });
      const reached = await answers();
      if (stop.aborted || stream !== mine) return;
      tell({ reached });
      // It is there and has no stream for who is not signed in: pages ask, and what they may not see leads to signing in.
      if (reached) tell(ANYTHING);
      timer = window.setTimeout(open, pause(failures));
      failures += 1;
    });
  };
  const again = () => {
    if (stream?.readyState === EventSource.OPEN) return;
    window.clearTimeout(timer);
    stream?.close();
    failures = Math.max(1, failures);
    open();
  };
  window.addEventListener('online', again);
  stop.addEventListener('abort', () => {
    window.removeEventListener('online', again);
    window.clearTimeout(timer);
    stream?.close();
    done();
  });
  if (stop.aborted) return done();
  open();
}

/** What changed since pages were told last. */
export interface Changes {
  /** It is not known what changed: everything may have. */
  all: boolean;
  /** By run: its jobs that changed, and whether the run's own state did. */
  runs: ReadonlyMap<string, { jobs: ReadonlySet<string>; whole: boolean }>;
}

type Taker = (changes: Changes) => Promise<unknown> | undefined;
const takers = new Set<Taker>();

/** Tells a page of what changed, a few times a second at most, and never again before it has done with the last time. */
export function useChanges(take: Taker) {
  const newest = useRef(take);
  newest.current = take;
  useEffect(() => {
    const taker: Taker = (changes) => newest.current(changes);
    takers.add(taker);
    return () => {
      takers.delete(taker);
    };
  }, []);
}

/** Lists, and what a project keeps, change with the run itself, not with each of its jobs. */
function askAgain(changes: Changes) {
  const again = (queryKey: string[]) => queries.invalidateQueries({ queryKey });
  if (changes.all) for (const key of ['runs', 'kept', 'needs', 'run']) again([key]);
  for (const [run, { whole }] of changes.runs) {
    const [project = ''] = run.split('/');
    if (!whole) continue;
    again(['runs', project]);
    again(['kept', project]);
    again(['run', run, 'results']);
  }
}

/** Gathers what is heard, and tells pages of it. */
class Gathered {
  private all = false;
  private runs = new Map<string, { jobs: Set<string>; whole: boolean }>();
  private timer: number | undefined;
  private busy = false;

  hear({ run, job }: Heard) {
    if (run === '') this.all = true;
    else {
      const known = this.runs.get(run) ?? { jobs: new Set<string>(), whole: false };
      if (job) known.jobs.add(job);
      else known.whole = true;
      this.runs.set(run, known);
    }
    this.plan();
  }

  end() {
    window.clearTimeout(this.timer);
  }

  private plan() {
    if (!this.busy) this.timer ??= window.setTimeout(() => void this.tell(), GATHER_MS);
  }

  private async tell() {
    const changes = { all: this.all, runs: this.runs };
    [this.all, this.runs, this.timer, this.busy] = [false, new Map(), undefined, true];
    queries.invalidateQueries({ queryKey: ['slots'] });
    askAgain(changes);
    await Promise.allSettled([...takers].map((take) => take(changes)));
    this.busy = false;
    if (this.all || this.runs.size > 0) this.plan();
  }
}

/** Hears of what happens, for as long as the console is open. */
export function useLive() {
  useEffect(() => {
    const gathered = new Gathered();
    const heard = (what: Heard) => gathered.hear(what);
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
      gathered.end();
    };
  }, []);
}
