// What lets this page add styles of its own; the service gives each page another.
export const nonce = document.querySelector<HTMLMetaElement>('meta[property=csp-nonce]')?.nonce;
