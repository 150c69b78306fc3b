// What waits for whoever looks: approvals, emergencies to confirm, runs from outside.
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { answered, api, type Schemas } from '../../api/client';
import { Trouble } from '../../parts/Trouble';
import { When } from '../../parts/When';

type Need = Schemas['NeedView'];

function useNeeds() {
  return useQuery({ queryKey: ['needs'], queryFn: () => answered(api.GET('/api/v1/needs')), refetchInterval: 5_000 });
}

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
            <td className="soft">
              <code>{need.command}</code>
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
