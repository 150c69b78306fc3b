// The tab of a run.
import { useEffect } from 'react';
import type { RunView } from '../../api/client';

/** The mark in the tab takes the run's colour, so that a tab in the background tells when it turns. */
export function useFavicon(run: RunView | undefined) {
  const state = run?.state;
  const title = run ? `${run.run} ${run.state}` : 'Ordotaxis';
  useEffect(() => {
    document.title = title;
    const link = document.querySelector<HTMLLinkElement>('link[rel=icon]');
    if (!link || !state) return;
    const probe = document.createElement('i');
    probe.className = `s-${state}`;
    document.body.append(probe);
    const color = getComputedStyle(probe).color;
    probe.remove();
    const svg = `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 24 24"><path fill="${color}" d="M2 3h9v3H2zM6 8h9v3H6zM10 13h9v3h-9zM14 18h8v3h-8z"/></svg>`;
    link.href = `data:image/svg+xml,${encodeURIComponent(svg)}`;
    return () => {
      link.href = '/mark.svg';
      document.title = 'Ordotaxis';
    };
  }, [state, title]);
}
