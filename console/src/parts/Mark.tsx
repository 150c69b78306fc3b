// The mark: four bars, each starting where the one above it has its notch.
export function Mark() {
  return (
    <svg width="24" height="24" viewBox="0 0 24 24" fill="currentColor" aria-hidden="true">
      <path d="M2 3h9v3H2zM6 8h9v3H6zM10 13h9v3h-9zM14 18h8v3h-8z" />
    </svg>
  );
}
