// Who holds which role on what.
import { useQuery } from '@tanstack/react-query';
import { answered, api } from '../../api/client';
import { Trouble } from '../../parts/Trouble';
import { GiveRole, Grants, roles } from './Grants';

export function Roles({ owner }: { owner: boolean }) {
  const { data, error } = useQuery({ queryKey: ['grants'], queryFn: () => answered(api.GET('/api/v1/grants')) });
  if (error) return <Trouble error={error} />;
  if (!data) return null;
  return (
    <>
      {owner && (
        <div className="people-line">
          <GiveRole all={data} />
        </div>
      )}
      <Grants of={data} owner={owner} on />
      <p className="soft">
        Each role holds what those before it hold: {roles.map(([role, what]) => `${role} ${what}`).join('; ')}. A
        project is seen by all who are signed in, unless its settings say otherwise.
      </p>
    </>
  );
}
