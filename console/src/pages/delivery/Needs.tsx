// What waits for whoever looks: approvals, emergencies to confirm, runs from outside.
import { Link } from 'react-router';
import type { Schemas } from '../../api/client';
import { Trouble } from '../../parts/Trouble';
import { When } from '../../parts/When';
import { AllowButton } from '../run/Acts';
import { Say } from './Say';
import { useNeeds } from './useNeeds';

type Need = Schemas['NeedView'];

export default function Needs() {
  const { data, error } = useNeeds();
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  return (
    <>
      <h1>Needs you</h1>
      {data.length === 0 ? (
        <p className="empty">
          Nothing waits for you. Here stand deployments that your approval counts for, emergencies that someone else
          must confirm, and runs from outside that you may allow.
        </p>
      ) : (
        <List needs={data} />
      )}
    </>
  );
}

/** The same on the board; nothing while nothing waits. */
export function NeedsOnBoard() {
  const { data } = useNeeds();
  if (!data || data.length === 0) return null;
  return (
    <section aria-label="Needs you" className="needs">
      <h2>
        <Link to="/needs">Needs you</Link>
      </h2>
      <List needs={data.slice(0, 5)} />
      {data.length > 5 && <Link to="/needs">and {data.length - 5} more</Link>}
    </section>
  );
}

function List({ needs }: { needs: Need[] }) {
  return (
    <table className="sheet">
      <tbody>
        {needs.map((need) => (
          <tr key={`${need.kind} ${need.run} ${need.job}`}>
            <td className="num">
              <When at={need.since} />
            </td>
            <td>
              <Link to={`/${need.page}`}>{need.sentence}</Link>
            </td>
            <td className="acts" title={need.command}>
              <NeedActs need={need} />
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function NeedActs({ need }: { need: Need }) {
  if (!need.run) return null;
  const [project = '', number] = need.run.split('/');
  if (need.kind === 'allow') return <AllowButton project={project} number={Number(number)} />;
  return (
    <Say run={need.run} job={need.job ?? ''} into={need.environment ?? ''} confirms={need.kind === 'confirmation'} />
  );
}
