// The last lines that a machine wrote.
import { useQuery } from '@tanstack/react-query';
import { answered, api } from '../../api/client';
import { Trouble } from '../../parts/Trouble';

const LINES = 40;

export function Console({ id }: { id: string }) {
  const console = useQuery({
    queryKey: ['console', id],
    refetchInterval: 2000,
    retry: false,
    queryFn: () => answered(api.GET('/api/v1/machines/{id}/console', { params: { path: { id } } })),
  });
  if (console.error) return <Trouble error={console.error} />;
  if (!console.data) return null;
  const lines = console.data.text.trimEnd().split('\n').slice(-LINES).join('\n');
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: it scrolls, so the keyboard must reach it
    <section className="console-place" tabIndex={0} aria-label={`Console of ${id}`}>
      <pre className="console">{lines || 'It has written nothing yet.'}</pre>
    </section>
  );
}
