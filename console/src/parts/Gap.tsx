// Room for what is not on the page just now: rows of a long list that are out of sight.
export function Gap({ height }: { height: number }) {
  if (height <= 0) return null;
  return <svg className="gap" width="1" height={height} aria-hidden="true" />;
}
