// How the last thing went that was done here.
export function Told({ told }: { told?: { words: string; wrong: boolean } }) {
  if (!told) return null;
  return told.wrong ? (
    <div className="notice" role="alert">
      {told.words}
    </div>
  ) : (
    <span className="soft" role="status">
      {told.words}
    </span>
  );
}
