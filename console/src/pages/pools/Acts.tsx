// What can be done with a machine: look at its console, keep it for a look, remove it.
import { api, done, type Schemas, useMay } from '../../api/client';
import { Act } from '../../parts/Act';

/** How long a machine is kept that is kept from here. */
const KEPT_MS = 4 * 60 * 60 * 1000;

export function Acts(props: { machine: Schemas['MachineView']; open: boolean; onConsole: () => void }) {
  const owner = useMay('owner');
  return (
    <>
      <button type="button" className="act" onClick={props.onConsole} aria-expanded={props.open}>
        Console
      </button>
      {owner && <Owned {...props.machine} />}
    </>
  );
}

function Owned({ id, kept_until }: Schemas['MachineView']) {
  const path = { params: { path: { id } } };
  const keep = (for_ms: number | null) => done(api.PUT('/api/v1/machines/{id}/kept', { ...path, body: { for_ms } }));
  const kept = async () => {
    await keep(KEPT_MS);
    return { words: `${id} is kept for four hours.`, undo: () => keep(null) };
  };
  const letGo = async () => {
    await keep(null);
    return { words: `${id} is kept no longer.`, undo: () => keep(KEPT_MS) };
  };
  return (
    <>
      <Act
        name={kept_until ? 'Let go' : 'Keep'}
        label={`${kept_until ? 'Let go' : 'Keep'} ${id}`}
        says={
          kept_until
            ? 'It is removed once nothing needs it, as any other.'
            : 'It stays for four hours, for a look at it, and costs what it costs.'
        }
        atOnce
        act={kept_until ? letGo : kept}
      />
      <Act
        name="Remove"
        label={`Remove ${id}`}
        says="The machine is removed now; what it does is lost and done again elsewhere."
        act={async () => {
          await done(api.DELETE('/api/v1/machines/{id}', path));
          return { words: `${id} is being removed.` };
        }}
      />
    </>
  );
}
