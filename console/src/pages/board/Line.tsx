// A project's line on the board; of a broken one a second line says what broke first, since which commit, whose.
import { memo } from 'react';
import { Link } from 'react-router';
import type { BoardLine, RunView } from '../../api/client';
import { Shape, StateWord } from '../../look/states';
import { Middle } from '../../parts/Middle';
import { useNow } from '../../parts/now';
import { When } from '../../parts/When';
import { duration, took } from '../../parts/words';
import { Strip } from './Strip';

export const Line = memo(function Line({
  line,
  pinned,
  onPin,
}: {
  line: BoardLine;
  pinned: boolean;
  onPin: (project: string) => void;
}) {
  const path = encodeURIComponent(line.project);
  return (
    <>
      <tr className={line.broke ? 'joined' : ''}>
        <td>
          <Link to={`/projects/${path}`} className="name">
            <Middle name={line.project} />
          </Link>
          <button
            type="button"
            className="pin"
            aria-pressed={pinned}
            aria-label={`${pinned ? 'Unpin' : 'Pin'} ${line.project}`}
            onClick={() => onPin(line.project)}
          >
            <svg width="10" height="12" aria-hidden="true">
              <path d="M1.5 1h7v10L5 8.5 1.5 11z" />
            </svg>
          </button>
        </td>
        <td>{line.main ? <StateWord state={line.main} /> : <span className="soft">no verdict yet</span>}</td>
        <td>{line.since && <When at={line.since} />}</td>
        <td>
          <Strip runs={line.runs} />
        </td>
        <td>
          {line.now.length === 0 ? (
            <span className="soft">–</span>
          ) : (
            line.now.map((run) => <Now key={run.run} run={run} />)
          )}
        </td>
      </tr>
      {line.broke && <Broke broke={line.broke} />}
    </>
  );
});

function Broke({ broke }: { broke: NonNullable<BoardLine['broke']> }) {
  return (
    <tr className="second">
      <td />
      <td colSpan={4}>
        <div className="cut">
          <Link to={`/runs/${broke.run}${broke.job ? `/${encodeURIComponent(broke.job)}` : ''}`}>
            {broke.job ?? broke.run}
          </Link>
          : {broke.why}{' '}
          <span className="soft">
            · since <span className="code">{broke.commit.slice(0, 8)}</span> “{broke.commit_title}”
            {broke.author && ` by ${broke.author}`}
          </span>
        </div>
      </td>
    </tr>
  );
}

export function Now({ run }: { run: RunView }) {
  const now = useNow(run.held !== true);
  const since = took(run, now) ?? 0;
  return (
    <div className="num">
      <Link to={`/runs/${run.run}`} className="state">
        <Shape state={run.state} label /> {run.number}
      </Link>
      {run.held ? <span className="soft"> waits for someone to allow it</span> : <Progress run={run} since={since} />}
    </div>
  );
}

function Progress({ run, since }: { run: RunView; since: number }) {
  const share = run.usual_ms ? Math.min(1, since / run.usual_ms) : 0;
  return (
    <>
      {run.usual_ms ? (
        <span className="board-progress" role="img" aria-label={`${Math.round(share * 100)}% of its usual time`}>
          <svg width={70 * share} height="4" aria-hidden="true">
            <rect width="100%" height="4" fill="currentColor" />
          </svg>
        </span>
      ) : (
        ' '
      )}
      {duration(since)}
      {run.usual_ms ? <span className="soft"> of ~{duration(run.usual_ms)}</span> : null}
    </>
  );
}
