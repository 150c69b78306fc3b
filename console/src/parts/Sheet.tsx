// A table with a head: a word a column; the last column may be for what can be done, and has none that is seen.
import type { ReactNode } from 'react';

export const ACTS = 'what can be done';

export function Sheet({ heads, children }: { heads: string[]; children: ReactNode }) {
  return (
    <table className="sheet">
      <thead>
        <tr>
          {heads.map((head) => (
            <th key={head}>{head === ACTS ? <span className="hidden">{head}</span> : head}</th>
          ))}
        </tr>
      </thead>
      <tbody>{children}</tbody>
    </table>
  );
}
