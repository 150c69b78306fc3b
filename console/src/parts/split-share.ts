// How much of the width the left half of a page has, in percent: neither half is ever squeezed away.

/** A share that leaves both halves room. */
export const share = (wanted: number) => Math.min(85, Math.max(15, Math.round(wanted)));

/** What was kept, where that is a share. */
export function kept(text: string | null, usual: number): number {
  const found = text === null || text.trim() === '' ? Number.NaN : Number(text);
  return share(Number.isFinite(found) ? found : usual);
}
