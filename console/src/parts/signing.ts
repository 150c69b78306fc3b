// Signing in is a way to a page: whoever is asked to is led back to where they were. The sign-in page has that in its
// address, and the tab keeps it while a provider is asked.

const KEY = 'ordotaxis.after-sign-in';

/** The sign-in page that leads back to `here`, a path of the console. */
export const signInFor = (here: string) => (here === '/' ? '/sign-in' : `/sign-in?to=${encodeURIComponent(here)}`);

/** A page of the console that an address leads to; nothing for whatever lies outside, since anybody can write the address. */
export function pageOf(to: string | null, origin: string): string | undefined {
  if (!to?.startsWith('/') || !URL.canParse(to, origin)) return undefined;
  const url = new URL(to, origin);
  const page = url.pathname + url.search;
  // An address of two strokes is that of another machine, also for the router.
  return url.origin !== origin || page.startsWith('//') || url.pathname === '/sign-in' ? undefined : page;
}

/** Where this tab goes once someone has signed in. */
export const wanted = (): string | undefined => sessionStorage.getItem(KEY) ?? undefined;

/** Takes it from the sign-in page's address; a visit that comes back from somewhere, with a code, keeps what was there. */
export function want({ search, hash, origin }: Pick<Location, 'search' | 'hash' | 'origin'>) {
  const words = new URLSearchParams(search);
  const to = pageOf(words.get('to'), origin);
  if (to) sessionStorage.setItem(KEY, to);
  else if (!words.get('state') && hash === '') sessionStorage.removeItem(KEY);
}

export const forget = () => sessionStorage.removeItem(KEY);
