// Browsers that are signed in: one's own, or for owners everybody's.
import { useQuery } from '@tanstack/react-query';
import { Button } from 'antd';
import { answered, api } from '../../api/client';
import { Trouble } from '../../parts/Trouble';
import { exact } from '../../parts/times';
import { When } from '../../parts/When';
import { useAct } from './act';
import { Told } from './Told';

export function Sessions({ all }: { all: boolean }) {
  const { data, error } = useQuery({
    queryKey: ['sessions', all],
    queryFn: () => answered(api.GET('/api/v1/sessions', { params: { query: { all } } })),
  });
  const { told, act } = useAct(['sessions']);
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  return (
    <>
      <h2 className="apart">Sessions</h2>
      <Told told={told} />
      <table className="sheet">
        <thead>
          <tr>
            {all && <th>of</th>}
            <th>from</th>
            <th>browser</th>
            <th>begun</th>
            <th>used last</th>
            <th>ends</th>
            <th>
              <span className="hidden">what can be done</span>
            </th>
          </tr>
        </thead>
        <tbody>
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
                <Button
                  size="small"
                  type="text"
                  aria-label={`End session ${one.id}`}
                  onClick={() =>
                    act(
                      api.DELETE('/api/v1/sessions/{id}', { params: { path: { id: one.id } } }),
                      'the session is ended',
                    )
                  }
                >
                  End
                </Button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </>
  );
}
