// Two values that should have been equal, one above the other, with what differs marked in both.
import type { Schemas } from '../../api/client';
import { sides } from './difference';
import './failure.css';

export function Difference({ difference }: { difference: Schemas['DifferenceView'] }) {
  const [first = '', second = ''] = difference.values;
  const both = sides(first, second);
  return (
    <dl className="difference">
      {both.map((pieces, side) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: there are two, always in this order
        <div key={side} className={side === 0 ? 'wanted' : 'got'}>
          <dt>{difference.names[side]}</dt>
          <dd>
            <pre>
              {pieces.map((piece, at) =>
                piece.differs ? (
                  // biome-ignore lint/suspicious/noArrayIndexKey: pieces never change their order
                  <mark key={at}>{piece.text}</mark>
                ) : (
                  piece.text
                ),
              )}
            </pre>
          </dd>
        </div>
      ))}
    </dl>
  );
}
