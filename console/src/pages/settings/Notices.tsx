// What was told to the addresses that the project's rules name.

import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { answered, api } from '../../api/client';
import { Sheet } from '../../parts/Sheet';
import { Trouble } from '../../parts/Trouble';
import { When } from '../../parts/When';
import type { Of } from './of';

export default function Notices({ project }: Of) {
  const { data, error } = useQuery({
    queryKey: ['project-notices', project],
    queryFn: () => answered(api.GET('/api/v1/projects/{name}/notices', { params: { path: { name: project } } })),
  });
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  return (
    <>
      <p className="pad soft">
        Whom the project tells is said in its rules, under <code>[notice.NAME]</code>:{' '}
        <Link to={`/projects/${project}/draft/rules`}>open them in Draft</Link>. What you yourself are told, you choose
        under <Link to="/notices">Your notices</Link>.
      </p>
      {data.length === 0 ? (
        <p className="empty">Nothing was told yet.</p>
      ) : (
        <Sheet heads={['when', 'what', 'to', 'state']}>
          {data.map((one) => (
            <tr key={one.id}>
              <td className="num">
                <When at={one.at} />
              </td>
              <td>
                <a href={one.link}>{one.sentence}</a>
              </td>
              <td>
                {one.name && <span>{one.name}: </span>}
                <span className="code">{one.to}</span>
              </td>
              <td className={one.state === 'given up' ? 's-failed' : 'soft'}>
                {one.state}
                {one.why && `: ${one.why}`}
              </td>
            </tr>
          ))}
        </Sheet>
      )}
    </>
  );
}
