// Over which time: words to choose from.
const choices: [number, string][] = [
  [1, 'a day'],
  [7, '7 days'],
  [30, '30 days'],
  [90, '90 days'],
  [365, 'a year'],
];

export function Days({ days, onDays }: { days: number; onDays: (days: number) => void }) {
  return (
    <fieldset className="words" aria-label="Over which time">
      {choices.map(([some, word]) => (
        <button key={some} type="button" aria-pressed={some === days} onClick={() => onDays(some)}>
          {word}
        </button>
      ))}
    </fieldset>
  );
}
