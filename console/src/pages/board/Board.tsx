// The board: is anything broken, since when, and whose is it?
import { useQuery } from '@tanstack/react-query';
import { Tooltip } from 'antd';
import { Link, Navigate } from 'react-router';
import { answered, api, type BoardLine, Refused, type RunView } from '../../api/client';
import { isEnd, Shape, StateWord } from '../../look/states';
import { Trouble } from '../../parts/Trouble';
import { age, duration, exact, time, took, useNow } from '../../parts/words';
import { NeedsOnBoard } from '../delivery/Needs';
import './board.css';

export default function Board() {
  const { data, error } = useQuery({ queryKey: ['board'], queryFn: () => answered(api.GET('/api/v1/board')) });
  const now = useNow(true);
  if (error instanceof Refused && error.status === 401) return <Navigate to="/sign-in" replace />;
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  if (data.projects.length === 0) {
    return (
      <p className="empty">
        Here each project has its line: the verdict on its main branch, its last runs, and what runs now. Add the first
        with <code>ordotaxis project add NAME --git URL</code>
      </p>
    );
  }
  const broken = data.projects.filter((line) => line.main === 'failed').length;
  return (
    <>
      <h1>{headline(broken, data.projects.length)}</h1>
      <NeedsOnBoard />
      <div className="facts" />
      <table className="sheet board">
        <thead>
          <tr>
            <th style={{ width: 160 }}>project</th>
            <th style={{ width: 110 }}>main</th>
            <th style={{ width: 80 }}>since</th>
            <th style={{ width: 300 }}>last {Math.max(...data.projects.map((line) => line.runs.length))} runs</th>
            <th>now</th>
          </tr>
        </thead>
        {data.projects.map((line) => (
          <Line key={line.project} line={line} now={now} />
        ))}
      </table>
    </>
  );
}

function headline(broken: number, all: number): string {
  if (broken === 0) return all === 1 ? 'The main branch is well' : `All ${all} main branches are well`;
  return `${broken} of ${all} main branches ${broken === 1 ? 'is' : 'are'} broken`;
}

function Line({ line, now }: { line: BoardLine; now: number }) {
  return (
    <tbody>
      <tr className={line.broke ? 'joined' : ''}>
        <td>
          <Link to={`/projects/${line.project}`}>
            <b>{line.project}</b>
          </Link>
        </td>
        <td>{line.main ? <StateWord state={line.main} /> : <span className="soft">no verdict yet</span>}</td>
        <td className="num">{line.since && <span title={exact(line.since)}>{age(now - time(line.since))}</span>}</td>
        <td>
          <Strip line={line} />
        </td>
        <td>
          {line.now.length === 0 ? (
            <span className="soft">–</span>
          ) : (
            line.now.map((run) => <Now key={run.run} run={run} now={now} />)
          )}
        </td>
      </tr>
      {line.broke && (
        <tr className="second">
          <td />
          <td colSpan={4}>
            <Link to={`/runs/${line.broke.run}${line.broke.job ? `/${line.broke.job}` : ''}`}>
              {line.broke.job ?? line.broke.run}
            </Link>
            : {line.broke.why}{' '}
            <span className="soft">
              · since <span className="code">{line.broke.commit.slice(0, 8)}</span> “{line.broke.commit_title}”
              {line.broke.author && ` by ${line.broke.author}`}
            </span>
          </td>
        </tr>
      )}
    </tbody>
  );
}

/** Past runs as bars: height is duration, colour and notch the outcome. */
function Strip({ line }: { line: BoardLine }) {
  const longest = Math.max(1, ...line.runs.map((run) => run.duration_ms ?? 0));
  return (
    <div className="strip">
      {line.runs.map((run) => {
        const height = 8 + 16 * ((run.duration_ms ?? longest / 2) / longest);
        const words = `${run.run} ${run.state}${run.duration_ms == null ? '' : `, ${duration(run.duration_ms)}`}: ${run.commit_title}`;
        return (
          <Tooltip key={run.run} title={words}>
            <Link to={`/runs/${run.run}`} className={`s-${run.state}`} aria-label={words} style={{ height: 24 }}>
              <i style={{ height: isEnd(run.state) ? height : 6 }} />
            </Link>
          </Tooltip>
        );
      })}
    </div>
  );
}

function Now({ run, now }: { run: RunView; now: number }) {
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
          <i style={{ width: `${share * 100}%` }} />
        </span>
      ) : (
        ' '
      )}
      {duration(since)}
      {run.usual_ms ? <span className="soft"> of ~{duration(run.usual_ms)}</span> : null}
    </>
  );
}
