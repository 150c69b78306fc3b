// Browsers that are signed in: one's own, or for owners everybody's.
import { useQuery } from '@tanstack/react-query';
import { answered, api, done } from '../../api/client';
import { Act } from '../../parts/Act';
import { ACTS, Sheet } from '../../parts/Sheet';
import { Trouble } from '../../parts/Trouble';
import { exact } from '../../parts/times';
import { When } from '../../parts/When';

export function Sessions({ all }: { all: boolean }) {
  const { data, error } = useQuery({
    queryKey: ['sessions', all],
    queryFn: () => answered(api.GET('/api/v1/sessions', { params: { query: { all } } })),
  });
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  return (
    <>
      <h2 className="apart">Sessions</h2>
      <Sheet heads={[...(all ? ['of'] : []), 'from', 'browser', 'begun', 'used last', 'ends', ACTS]}>
        {data.map((one) => (
          <tr key={one.id}>
            {all && <td>{one.person}</td>}
            <td className="num">{one.address}</td>
            <td className="soft cut w-420" title={one.agent}>
              {one.agent || 'unknown'}
            </td>
            <td>
              <When at={one.made_at} />
            </td>
            <td>
              <When at={one.used_at} />
            </td>
            <td className="num">{exact(one.ends_at)}</td>
            <td className="acts">
              <Act
                name="End"
                label={`End session ${one.id}`}
                plain
                says="That browser is signed out at once; what it has begun goes on."
                act={async () => {
                  await done(api.DELETE('/api/v1/sessions/{id}', { params: { path: { id: one.id } } }));
                  return { words: 'The session is ended.' };
                }}
              />
            </td>
          </tr>
        ))}
      </Sheet>
    </>
  );
}
