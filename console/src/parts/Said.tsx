// What was done last, below the page, until it is put away or something else is done.
import { useActs } from './acts';
import { say, undo, useSaid } from './said';

export function Said() {
  const said = useSaid();
  useActs('Everywhere', said?.undo ? [{ name: 'Take the last thing back', key: 'u', run: () => void undo() }] : []);
  return (
    <div role={said?.wrong ? 'alert' : 'status'} className={said ? 'said' : undefined}>
      {said && (
        <>
          <span className={said.wrong ? 's-failed' : undefined}>{said.words}</span>
          {said.undo && (
            <button type="button" className="link" aria-label={`Undo: ${said.words}`} onClick={() => void undo()}>
              Undo
            </button>
          )}
          <button type="button" className="link" aria-label="Put this away" onClick={() => say(undefined)}>
            ×
          </button>
        </>
      )}
    </div>
  );
}
