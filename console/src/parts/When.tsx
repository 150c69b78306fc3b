// A moment in a line of text or a table: relative, with the exact one on hover.
import { useNow } from './now';
import { ago, exact, since, useZone } from './times';

export function When({ at, sentence = false }: { at: string; sentence?: boolean }) {
  const now = useNow(true, 10_000);
  const zone = useZone();
  return (
    <time dateTime={at} title={exact(at, zone)} className="num">
      {sentence ? ago(at, now, zone) : since(at, now, zone)}
    </time>
  );
}
