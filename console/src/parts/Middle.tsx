// A long name that is shortened in its middle: what tells names apart stands at their ends.
export function Middle({ name, end = 12 }: { name: string; end?: number }) {
  if (name.length <= end * 2) return <span className="middle-whole">{name}</span>;
  return (
    <span className="middle" title={name}>
      <span>{name.slice(0, -end)}</span>
      <span>{name.slice(-end)}</span>
    </span>
  );
}
