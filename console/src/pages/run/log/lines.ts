// A log's lines as a page of the console has them: how many there are, which are at hand, and more as they are printed.
import { useCallback, useEffect, useRef, useState } from 'react';
import { answered, api, type JobView, type RunView, type Schemas } from '../../../api/client';

export const PAGE = 500;
/** Pages further from what is in sight than the newest so many are let go. */
const KEPT = 120;

/** Whose log it is. */
export interface LogOf {
  run: RunView;
  job: JobView;
  attempt: Schemas['AttemptView'];
  /** A helper's, in place of the job's own. */
  beside: string | undefined;
}

export type Page = { texts: string[]; times: number[]; total: number };

export type Lines = {
  /** None until it is known. */
  total: number | undefined;
  /** More may come. */
  open: boolean;
  line: (number: number) => { text: string; at: number } | undefined;
  /** Says which lines are in sight: their pages are read. */
  want: (first: number, last: number) => void;
  /** Reads lines that are not at hand, as many as that takes; gives what finds each. */
  read: (first: number, last: number) => Promise<(number: number) => { text: string; at: number } | undefined>;
  /** The pages at hand; the same list until one of them changes. */
  pages: ReadonlyMap<number, Page>;
  /** Grows whenever a page was read. */
  version: number;
};

/** How many lines one call brings at most: what the service gives. */
const MOST = 5_000;

/** Waits until the tab is the one that is looked at. */
function inSight(): Promise<void> {
  return new Promise((seen) => {
    const look = () => {
      if (document.visibilityState === 'hidden') return;
      document.removeEventListener('visibilitychange', look);
      seen();
    };
    document.addEventListener('visibilitychange', look);
    look();
  });
}

export function useLines(run: RunView, job: string, attempt: number, beside: string | undefined): Lines {
  const [known, setKnown] = useState<{ total?: number; open: boolean }>({ open: true });
  const [version, redraw] = useState(0);
  const pages = useRef(new Map<number, Page>());
  const asked = useRef(new Set<number>());
  const { project, number } = run;
  const read = useCallback(
    (query: { from: number; count: number; wait_ms?: number; more_than?: number }, signal?: AbortSignal) =>
      answered(
        api.GET('/api/v1/runs/{project}/{number}/jobs/{job}/lines', {
          params: { path: { project, number, job }, query: { attempt, beside, ...query } },
          signal,
        }),
      ),
    [project, number, job, attempt, beside],
  );
  useEffect(() => {
    const stop = new AbortController();
    const pause = (ms: number) => new Promise((done) => setTimeout(done, ms));
    pages.current.clear();
    setKnown({ open: true });
    const follow = async () => {
      let total: number | undefined;
      while (!stop.signal.aborted) {
        await inSight();
        // Nobody looks at a tab behind others: it lets go of its call, since a browser opens few connections to one place.
        const call = new AbortController();
        const letGo = () => call.abort();
        const ended = AbortSignal.any([stop.signal, call.signal]);
        document.addEventListener('visibilitychange', letGo);
        try {
          const wait = total === undefined ? {} : { wait_ms: 20_000, more_than: total };
          const answer = await read({ from: 0, count: 0, ...wait }, ended);
          total = answer.total;
          setKnown({ total, open: answer.open });
          if (!answer.open) return;
          // A chatty job is drawn a few times a second, not with every line.
          await pause(150);
        } catch {
          // The service may be restarting; the log goes on where it was.
          if (!ended.aborted) await pause(1000);
        } finally {
          document.removeEventListener('visibilitychange', letGo);
        }
      }
    };
    void follow();
    return () => stop.abort();
  }, [read]);
  const total = known.total ?? 0;
  const want = useCallback(
    (first: number, last: number) => {
      for (let page = Math.floor(first / PAGE); page <= Math.floor(last / PAGE); page += 1) {
        const have = pages.current.get(page);
        const end = Math.min(total, (page + 1) * PAGE);
        const whole = have && have.total >= end && (have.texts.length === PAGE || have.total === total);
        if (whole || asked.current.has(page)) continue;
        asked.current.add(page);
        read({ from: page * PAGE, count: PAGE })
          .then((answer) => {
            const texts = answer.text === '' ? [] : answer.text.replace(/\n$/, '').split('\n');
            pages.current.delete(page);
            pages.current.set(page, { texts, times: answer.times, total: answer.total });
            for (const old of [...pages.current.keys()].slice(0, -KEPT)) pages.current.delete(old);
            redraw((count) => count + 1);
          })
          .catch(() => undefined)
          .finally(() => asked.current.delete(page));
      }
    },
    [read, total],
  );
  const line = (number: number) => {
    const page = pages.current.get(Math.floor(number / PAGE));
    const text = page?.texts[number % PAGE];
    return page && text !== undefined ? { text, at: page.times[number % PAGE] ?? 0 } : undefined;
  };
  const readLines = useCallback(
    async (first: number, last: number) => {
      const texts: string[] = [];
      const times: number[] = [];
      for (let from = first; from <= last; ) {
        const answer = await read({ from, count: Math.min(MOST, last - from + 1) });
        const some = answer.text === '' ? [] : answer.text.replace(/\n$/, '').split('\n');
        if (some.length === 0) break;
        texts.push(...some);
        times.push(...answer.times);
        from += some.length;
      }
      return (number: number) => {
        const text = texts[number - first];
        return text === undefined ? undefined : { text, at: times[number - first] ?? 0 };
      };
    },
    [read],
  );
  return { total: known.total, open: known.open, line, want, read: readLines, pages: pages.current, version };
}
