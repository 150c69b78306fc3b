// Steps through lists by key: every list of a page is one of rows, and a row has one thing that opens it. What has the
// focus is the row that one is at, so that it is always seen, and read out.

/** What opens a row: a link or button that says so, or the first one in a line of a table or list. */
const MARKED = '[data-row]';
const LINES = 'table.sheet > tbody > tr, table.list > tbody > tr, ul.rows > li';
const OPENS = 'a[href], button:not(:disabled)';

/** The rows of the page, from top to bottom. */
export function rowsOf(page: ParentNode): HTMLElement[] {
  const found: HTMLElement[] = [];
  for (const line of page.querySelectorAll<HTMLElement>(`${MARKED}, ${LINES}`)) {
    const opens = line.matches(MARKED) ? line : line.querySelector<HTMLElement>(OPENS);
    if (opens && !found.includes(opens) && opens.getClientRects().length > 0) found.push(opens);
  }
  return found;
}

/** The row to go to: the next or the one before; from elsewhere the nearest one in the order of the page. */
export function nextRow<T>(rows: T[], at: T | undefined, by: 1 | -1, isAfter: (row: T) => boolean): T | undefined {
  const index = at === undefined ? -1 : rows.indexOf(at);
  if (index >= 0) return rows[Math.min(rows.length - 1, Math.max(0, index + by))];
  const after = rows.findIndex(isAfter);
  if (by === 1) return after < 0 ? rows[0] : rows[after];
  return after < 0 ? rows.at(-1) : rows[Math.max(0, after - 1)];
}

/** Puts the focus on the next row, or the one before. */
export function stepRow(by: 1 | -1) {
  const page = document.querySelector('main');
  if (!page) return;
  const rows = rowsOf(page);
  const now = document.activeElement;
  const within = rows.find((row) => row === now || row.closest('tr, li')?.contains(now));
  const inPage = now instanceof HTMLElement && now !== page && page.contains(now);
  const isAfter = (row: HTMLElement) =>
    !inPage || (now.compareDocumentPosition(row) & Node.DOCUMENT_POSITION_FOLLOWING) !== 0;
  const row = nextRow(rows, within, by, isAfter);
  row?.focus();
  row?.scrollIntoView({ block: 'nearest' });
}

/** Opens the row that has the focus. */
export function openRow() {
  const now = document.activeElement;
  const page = document.querySelector('main');
  if (!(now instanceof HTMLElement) || !page?.contains(now)) return;
  const row = rowsOf(page).find((one) => one === now || one.closest('tr, li')?.contains(now));
  (row ?? now).click();
}
