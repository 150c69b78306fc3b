// A field to look for something in the whole log, and a way to its errors; the lines are found by the service.
import { useCallback, useEffect, useMemo, useRef, useState } from 'react';
import { useLocation } from 'react-router';
import { answered, api } from '../../../api/client';
import type { LogOf } from './lines';
import { lookFor, patternOf } from './pattern';
import { useGoToLines } from './where';

/** How many lines are found at most in one search: what the service gives. */
const MOST = 1_000;

interface Found {
  what: 'words' | 'errors';
  words: string;
  lines: number[];
  more: boolean;
  at: number;
}

export type Finding = ReturnType<typeof useFinder>;

export function useFinder({ run, job, attempt, beside }: LogOf, jump: (line: number) => void) {
  const { search } = useLocation();
  const goToLines = useGoToLines();
  // An address can bring what is to be found: the place of a test in its job's log.
  const brought = useRef(new URLSearchParams(search).get('find'));
  const field = useRef<HTMLInputElement>(null);
  const [text, setText] = useState(brought.current ?? '');
  const [found, setFound] = useState<Found>();
  const [wrong, setWrong] = useState<string>();
  const { project, number } = run;
  const ask = useCallback(
    async (what: Found['what'], words: string, from = 0) => {
      const path = { project, number, job: job.id };
      const pattern = what === 'words' ? patternOf(words) : undefined;
      const query = { attempt: attempt.number, pattern, beside, from, most: MOST };
      setWrong(undefined);
      try {
        const answer = await answered(
          api.GET('/api/v1/runs/{project}/{number}/jobs/{job}/search', { params: { path, query } }),
        );
        const lines = answer.found.map((one) => one.line);
        setFound({ what, words, lines, more: answer.more_from != null, at: 0 });
        if (lines[0] !== undefined) jump(lines[0]);
      } catch (error) {
        setFound(undefined);
        setWrong(error instanceof Error ? error.message : 'the log could not be searched');
      }
    },
    [project, number, job.id, attempt.number, beside, jump],
  );
  useEffect(() => {
    if (brought.current) void ask('words', brought.current);
  }, [ask]);
  const step = (by: number) => {
    if (!found || found.lines.length === 0) return;
    const at = (found.at + by + found.lines.length) % found.lines.length;
    setFound({ ...found, at });
    const line = found.lines[at];
    if (line !== undefined) jump(line);
  };
  const failed = beside ? undefined : attempt.phases.find((phase) => phase.failed && phase.kind === 'step');
  const error = (by: number) => (found?.what === 'errors' ? step(by) : void ask('errors', '', failed?.log_line ?? 0));
  const submit = () => {
    const lines = /^:(\d{1,9})(?:-(\d{1,9}))?$/.exec(text);
    if (lines) goToLines(Number(lines[1]) - 1, Number(lines[2] ?? lines[1]) - 1);
    else if (text === '') setFound(undefined);
    else if (found?.what === 'words' && found.words === text) step(1);
    else void ask('words', text);
  };
  const pattern = useMemo(
    () => (found?.what === 'words' ? lookFor(found.words) : undefined),
    [found?.what, found?.words],
  );
  return {
    field,
    text,
    setText,
    found,
    wrong,
    step,
    error,
    submit,
    pattern,
    /** The line that was gone to last. */
    marked: found?.lines[found.at],
    focus: () => field.current?.focus(),
  };
}

export function Finder({
  finder,
  wraps,
  onWrap,
  raw,
  failed,
}: {
  finder: Finding;
  wraps: boolean;
  onWrap: () => void;
  raw: string;
  failed: boolean;
}) {
  const { found, text, wrong } = finder;
  const none = !found || found.lines.length === 0;
  return (
    <form
      className="finder num"
      onSubmit={(event) => {
        event.preventDefault();
        finder.submit();
      }}
    >
      <input
        ref={finder.field}
        aria-label="Find in the log"
        placeholder="find, or :120-135"
        value={text}
        onChange={(event) => finder.setText(event.target.value)}
      />
      <button type="button" className="link" disabled={none} onClick={() => finder.step(-1)}>
        previous
      </button>
      <button type="button" className="link" disabled={none} onClick={() => finder.step(1)}>
        next
      </button>
      <span className="soft" aria-live="polite">
        {wrong ?? told(found)}
      </span>
      <span className="grow" />
      {failed && (
        <button type="button" className="link" title="e" onClick={() => finder.error(1)}>
          {found?.what === 'errors' ? 'next error' : 'first error'}
        </button>
      )}
      <button type="button" className="link" aria-pressed={wraps} title="l" onClick={onWrap}>
        wrap
      </button>
      <a href={raw} target="_blank" rel="noreferrer" title="r">
        raw
      </a>
    </form>
  );
}

/** `3 of 11`, `3 of more than 1,000 errors`. */
function told(found: Found | undefined): string {
  if (!found) return '';
  const what = found.what === 'errors' ? ' errors' : '';
  if (found.lines.length === 0) return `no${what || ' such'} lines`;
  const all = found.lines.length.toLocaleString('en');
  return `${found.at + 1} of ${found.more ? 'more than ' : ''}${all}${what}`;
}
