// What a page shows when its question could not be answered.
export function Trouble({ error }: { error: Error }) {
  return (
    <div className="notice" role="alert">
      {error.message}
    </div>
  );
}
