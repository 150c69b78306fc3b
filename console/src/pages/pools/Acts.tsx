// What can be done with a machine: look at its console, keep it for a look, remove it.
import { useMutation } from '@tanstack/react-query';
import { Button, Popconfirm } from 'antd';
import { answered, api, queries, type Schemas } from '../../api/client';
import { Trouble } from '../../parts/Trouble';

/** How long a machine is kept that is kept from here. */
const KEPT_MS = 4 * 60 * 60 * 1000;

export function Acts(props: { machine: Schemas['MachineView']; open: boolean; onConsole: () => void }) {
  const { id, kept_until } = props.machine;
  const after = { onSettled: () => queries.invalidateQueries({ queryKey: ['machines'] }) };
  const path = { params: { path: { id } } };
  const keep = useMutation({
    ...after,
    mutationFn: (for_ms: number | null) =>
      answered(api.PUT('/api/v1/machines/{id}/kept', { ...path, body: { for_ms } })),
  });
  const remove = useMutation({ ...after, mutationFn: () => answered(api.DELETE('/api/v1/machines/{id}', path)) });
  const error = keep.error ?? remove.error;
  return (
    <>
      <Button size="small" onClick={props.onConsole} aria-expanded={props.open}>
        Console
      </Button>
      <Button size="small" disabled={keep.isPending} onClick={() => keep.mutate(kept_until ? null : KEPT_MS)}>
        {kept_until ? 'Let go' : 'Keep'}
      </Button>
      <Popconfirm
        title="Remove this machine now? What it does is lost."
        okText="Remove"
        onConfirm={() => remove.mutate()}
      >
        <Button size="small" disabled={remove.isPending}>
          Remove
        </Button>
      </Popconfirm>
      {error && <Trouble error={error} />}
    </>
  );
}
