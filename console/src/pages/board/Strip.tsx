// Past runs as bars: height is duration, colour and notch the outcome. A bar tells its run when the pointer is on it, and
// opens it.
import { memo } from 'react';
import { useNavigate } from 'react-router';
import type { BoardLine } from '../../api/client';
import { isEnd, type State } from '../../look/states';
import { hideTip, showTip } from '../../parts/tip';
import { duration, many } from '../../parts/words';

type BoardRun = BoardLine['runs'][number];

const HEIGHT = 24;
const STEP = 9;
const MOST = 30;

export const Strip = memo(function Strip({ runs }: { runs: BoardRun[] }) {
  const navigate = useNavigate();
  const longest = Math.max(1, ...runs.map((run) => run.duration_ms ?? 0));
  const height = (run: BoardRun) => (isEnd(run.state) ? 8 + 16 * ((run.duration_ms ?? longest / 2) / longest) : 6);
  const runAt = (event: React.MouseEvent) => {
    const place = event.target instanceof Element ? event.target.closest('[data-run]') : null;
    return runs.find((run) => run.run === place?.getAttribute('data-run'));
  };
  const tell = (event: React.MouseEvent) => {
    const run = runAt(event);
    if (run) showTip(words(run), event.clientX, event.clientY);
    else hideTip();
  };
  const open = (event: React.MouseEvent) => {
    const run = runAt(event);
    if (!run || event.ctrlKey || event.metaKey || event.button !== 0) return;
    event.preventDefault();
    hideTip();
    navigate(`/runs/${run.run}`);
  };
  return (
    <>
      <span className="hidden">{summary(runs)}</span>
      <svg
        className="strip"
        width={MOST * STEP}
        height={HEIGHT}
        // For who does not see it the cell has a summary in words; the project's page lists the runs.
        aria-hidden="true"
        onMouseMove={tell}
        onMouseLeave={hideTip}
        onClick={open}
      >
        {runs.map((run, at) => (
          <a key={run.run} href={`/runs/${run.run}`} data-run={run.run} tabIndex={-1} className={`s-${run.state}`}>
            <rect className="catch" x={at * STEP} width={STEP} height={HEIGHT} />
            <Bar state={run.state} x={at * STEP} height={height(run)} />
          </a>
        ))}
      </svg>
    </>
  );
});

function Bar({ state, x, height }: { state: State; x: number; height: number }) {
  const top = HEIGHT - height;
  if (state === 'failed' || state === 'lost')
    return <path d={`M${x} ${top}h7L${x + 3.5} ${HEIGHT}z`} fill="currentColor" />;
  return <rect x={x} y={top} width="7" height={height} fill="currentColor" />;
}

/** What a bar tells. */
function words(run: BoardRun): string {
  const took = run.duration_ms == null ? '' : `, ${duration(run.duration_ms)}`;
  return `${run.run} ${run.state}${took}: ${run.commit_title}`;
}

/** The strip for who does not see it. */
function summary(runs: BoardRun[]): string {
  const failed = runs.filter((run) => run.state === 'failed' || run.state === 'lost').length;
  return `The last ${many(runs.length, 'run')}: ${failed === 0 ? 'none' : failed} failed`;
}
