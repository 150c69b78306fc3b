import react from '@vitejs/plugin-react';
import { defineConfig, type Plugin } from 'vite';
import { palettes } from './src/look/colours.ts';

/** The page's first moment, before any script: its colours are those of the palette, written in as `light-ground`. */
const firstColours: Plugin = {
  name: 'first-colours',
  transformIndexHtml: {
    order: 'pre',
    handler: (html) =>
      html.replace(/\b(light|dark)-([a-z]+)\b/g, (words, look: keyof typeof palettes, key) => {
        const colour = new Map(Object.entries(palettes[look])).get(key);
        if (!colour) throw new Error(`index.html: there is no colour ${words}`);
        return colour;
      }),
  },
};

export default defineConfig({
  // The service puts another number there with each answer.
  html: { cspNonce: 'nonce-of-this-page' },
  plugins: [react(), firstColours],
  build: {
    target: 'es2022',
    chunkSizeWarningLimit: 900,
    manifest: true,
    // What the board needs comes as one file: a browser fetches six at a time, and on a slow link each turn takes seconds.
    rolldownOptions: { output: { codeSplitting: { groups: [{ name: 'start', tags: ['$initial'] }] } } },
  },
  server: { proxy: { '/api': 'http://127.0.0.1:7070' } },
});
