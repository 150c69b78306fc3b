// Two halves of a page and the bar between them, which is moved with the mouse or the arrow keys and stays where it was
// put; or one half alone.
import { type ReactNode, useCallback, useEffect, useRef, useState } from 'react';
import { kept, share } from './split-share';

export function Split({
  name,
  usual,
  labels,
  only,
  left,
  right,
}: {
  /** What its place is kept under. */
  name: string;
  /** The left half's share of the width at first, in percent. */
  usual: number;
  labels: [string, string];
  /** The half that has the whole width. */
  only?: 'left' | 'right';
  left: ReactNode;
  right: ReactNode;
}) {
  const box = useRef<HTMLDivElement>(null);
  const [at, setAt] = useState(() => kept(localStorage.getItem(`split.${name}`), usual));
  const put = useCallback(
    (next: number) => {
      const fits = share(next);
      setAt(fits);
      localStorage.setItem(`split.${name}`, String(fits));
    },
    [name],
  );
  useEffect(() => {
    box.current?.style.setProperty('--left', `${at}fr`);
    box.current?.style.setProperty('--right', `${100 - at}fr`);
  }, [at]);
  const drag = (event: React.PointerEvent) => {
    event.preventDefault();
    const bar = event.currentTarget;
    const { left: edge = 0, width = 1 } = box.current?.getBoundingClientRect() ?? {};
    const move = (moved: Event) => put((100 * ((moved as PointerEvent).clientX - edge)) / width);
    const end = () => bar.removeEventListener('pointermove', move);
    bar.setPointerCapture(event.pointerId);
    bar.addEventListener('pointermove', move);
    bar.addEventListener('pointerup', end, { once: true });
    bar.addEventListener('pointercancel', end, { once: true });
  };
  const press = (event: React.KeyboardEvent) => {
    const by = { ArrowLeft: -2, ArrowRight: 2, Home: -100, End: 100 }[event.key];
    if (by === undefined) return;
    event.preventDefault();
    put(at + by);
  };
  return (
    <div className={`split ${only ? `only-${only}` : ''}`} ref={box}>
      <section aria-label={labels[0]} hidden={only === 'right'}>
        {left}
      </section>
      {/* biome-ignore lint/a11y/useSemanticElements: a rule cannot be moved */}
      <div
        className="splitter"
        role="separator"
        tabIndex={0}
        aria-orientation="vertical"
        aria-label={`Between ${labels[0]} and ${labels[1]}`}
        aria-valuenow={Math.round(at)}
        aria-valuemin={15}
        aria-valuemax={85}
        hidden={only !== undefined}
        onPointerDown={drag}
        onKeyDown={press}
        onDoubleClick={() => put(usual)}
      />
      <section aria-label={labels[1]} hidden={only === 'left'}>
        {right}
      </section>
    </div>
  );
}
