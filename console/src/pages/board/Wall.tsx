// The board for a screen on a wall: read from across the room, never touched. What is broken is large and says why.
import { Link } from 'react-router';
import type { BoardLine } from '../../api/client';
import { Shape } from '../../look/states';
import { When } from '../../parts/When';
import { Now } from './Line';
import { isBroken, isRunning } from './lines';

/** How large tiles are depends on how many there are. */
const sizeOf = (count: number) => (count <= 12 ? 'few' : count <= 48 ? 'some' : 'many');

export function Wall({ lines }: { lines: BoardLine[] }) {
  return (
    <ul className={`wall ${sizeOf(lines.length)}`}>
      {lines.map((line) => (
        <li key={line.project} className={isBroken(line) ? 'broken' : ''}>
          <div className="wall-name">
            {line.main ? <Shape state={line.main} label /> : <Shape state="waiting" label />}
            <Link to={`/projects/${encodeURIComponent(line.project)}`}>{line.project}</Link>
            <span className="soft end">{line.since && <When at={line.since} />}</span>
          </div>
          {line.broke && (
            <div className="wall-why">
              {line.broke.job ?? line.broke.run}: {line.broke.why}
              {line.broke.author && <span className="soft"> · {line.broke.author}</span>}
            </div>
          )}
          {isRunning(line) && line.now.slice(0, 2).map((run) => <Now key={run.run} run={run} />)}
        </li>
      ))}
    </ul>
  );
}
