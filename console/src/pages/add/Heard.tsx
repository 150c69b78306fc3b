// What the forge has sent for a project that is being prepared, as it comes, and how it was read.
import { useQuery } from '@tanstack/react-query';
import { answered, api } from '../../api/client';
import { When } from '../../parts/When';
import { asked, type Prepared } from './prepared';

const words: Record<string, string> = {
  taken: 'A delivery has come, and was read as',
  nothing: 'A delivery has come that starts nothing:',
  unread: 'A delivery has come that could not be read:',
  refused: 'A delivery has come that does not count:',
};

export function Heard({ look, said }: { look: string; said: Prepared }) {
  // The name and the profile may have changed since one looked: deliveries go to the name, and are read by the profile.
  const { data } = useQuery({
    queryKey: ['heard', look, asked(said, look).name, said.profile],
    refetchInterval: 1_000,
    queryFn: () => answered(api.GET('/api/v1/looks/{look}/deliveries', { params: { path: { look } } })),
  });
  return (
    <div role="log" aria-label="What the forge has sent" className="add-heard">
      {(data ?? []).length === 0 ? (
        <p className="soft">Nothing has come yet. It is shown here as soon as it does.</p>
      ) : (
        data?.map((one) => (
          <p key={`${one.at} ${one.state}`} className={one.state === 'taken' ? 's-passed' : 's-gated'}>
            <When at={one.at} sentence />: {words[one.state]} {one.events.join('; ') || one.why}
          </p>
        ))
      )}
    </div>
  );
}
