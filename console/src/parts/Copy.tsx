// A value to be put somewhere else: to see, to mark, to copy.
import { useRef, useState } from 'react';

export function Copy({ label, is }: { label: string; is: string }) {
  const field = useRef<HTMLInputElement>(null);
  const [copied, setCopied] = useState(false);
  const copy = async () => {
    field.current?.select();
    try {
      await navigator.clipboard.writeText(is);
      setCopied(true);
    } catch {
      // Where the page may not, the text is marked: Ctrl-C does it.
    }
  };
  return (
    <span className="copy">
      <input ref={field} className="field code" readOnly aria-label={label} value={is} />
      <button type="button" className="link" aria-label={`Copy ${label.toLowerCase()}`} onClick={() => void copy()}>
        {copied ? 'Copied' : 'Copy'}
      </button>
    </span>
  );
}
