// A word in the head line that opens a short list below it; it closes when one goes elsewhere.
import { type ReactNode, useEffect, useRef } from 'react';

export function Menu({ word, label, children }: { word: ReactNode; label: string; children: ReactNode }) {
  const box = useRef<HTMLDetailsElement>(null);
  useEffect(() => {
    const close = () => {
      if (box.current) box.current.open = false;
    };
    const elsewhere = (event: Event) => {
      if (!box.current?.contains(event.target as Node)) close();
    };
    const leave = (event: KeyboardEvent) => {
      if (event.key !== 'Escape' || !box.current?.open) return;
      close();
      box.current.querySelector('summary')?.focus();
    };
    const chosen = (event: MouseEvent) => event.target instanceof Element && event.target.closest('a') && close();
    const details = box.current;
    document.addEventListener('pointerdown', elsewhere);
    document.addEventListener('focusin', elsewhere);
    document.addEventListener('keydown', leave);
    details?.addEventListener('click', chosen);
    return () => {
      document.removeEventListener('pointerdown', elsewhere);
      document.removeEventListener('focusin', elsewhere);
      document.removeEventListener('keydown', leave);
      details?.removeEventListener('click', chosen);
    };
  }, []);
  return (
    <details className="menu" ref={box}>
      <summary aria-label={label}>{word}</summary>
      <div className="menu-list">{children}</div>
    </details>
  );
}
