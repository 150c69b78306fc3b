import react from '@vitejs/plugin-react';
import { defineConfig } from 'vite';

export default defineConfig({
  // The service puts another number there with each answer.
  html: { cspNonce: 'nonce-of-this-page' },
  plugins: [react()],
  build: {
    target: 'es2022',
    chunkSizeWarningLimit: 900,
    manifest: true,
    // What the board needs comes as one file: a browser fetches six at a time, and on a slow link each turn takes seconds.
    rolldownOptions: { output: { codeSplitting: { groups: [{ name: 'start', tags: ['$initial'] }] } } },
  },
  server: { proxy: { '/api': 'http://127.0.0.1:7070' } },
});
