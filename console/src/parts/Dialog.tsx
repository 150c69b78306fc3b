// A dialog of the browser's own: it keeps the focus, ends with Esc, and gives the focus back where it was.
import { type ReactNode, useEffect, useRef } from 'react';

export function Dialog({
  label,
  className,
  onClose,
  children,
}: {
  label: string;
  className?: string;
  onClose: () => void;
  children: ReactNode;
}) {
  const dialog = useRef<HTMLDialogElement>(null);
  useEffect(() => {
    const before = document.activeElement;
    const opened = dialog.current;
    opened?.showModal();
    return () => {
      opened?.close();
      if (before instanceof HTMLElement) before.focus();
    };
  }, []);
  return (
    // biome-ignore lint/a11y/useKeyWithClickEvents: a click beside it; Esc does the same from the keyboard
    <dialog
      ref={dialog}
      className={className}
      aria-label={label}
      onCancel={onClose}
      onClick={(event) => event.target === dialog.current && onClose()}
    >
      {children}
    </dialog>
  );
}
