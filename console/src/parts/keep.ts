// Hands a text to the reader as a file.
export function keep(name: string, kind: string, text: string) {
  const address = URL.createObjectURL(new Blob([text], { type: kind }));
  const link = document.createElement('a');
  link.href = address;
  link.download = name;
  link.click();
  // The browser has begun by then.
  window.setTimeout(() => URL.revokeObjectURL(address), 10_000);
}
