// The colours, in both looks.
const light = {
  ground: '#fbfaf6',
  panel: '#ffffff',
  rule: '#ddd9cf',
  ink: '#18212d',
  soft: '#5f6b7a',
  accent: '#0a6569',
  lit: '#084f52',
  passed: '#0f7a52',
  failed: '#a3170a',
  running: '#2458b3',
  gated: '#9a6a00',
  quiet: '#5f6b7a',
};

const dark: typeof light = {
  ground: '#12171d',
  panel: '#181e26',
  rule: '#2b343f',
  ink: '#e8e6df',
  soft: '#9aa7b6',
  accent: '#4fc4c4',
  lit: '#7ad6d6',
  passed: '#4cc38a',
  failed: '#ff7a4d',
  running: '#7fb0ff',
  gated: '#f0c850',
  quiet: '#9aa7b6',
};

/** No colour stands anywhere else; the page's first moment, before any script, has its own written in from here. */
export const palettes = { light, dark };
