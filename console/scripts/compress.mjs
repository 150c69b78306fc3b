// Compresses what was built once, so that the service sends it as it is; and weighs what a browser fetches to start.
import { readdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { gzipSync } from 'node:zlib';

/** What a browser may fetch before the board stands there, in kilobytes (1,000 bytes) of gzip. */
const MOST_KB = 225;

// The first words of the page are drawn before the sheet of styles has come; the program waits for it in any case.
const page = readFileSync('dist/index.html', 'utf8');
const [sheet] = page.match(/ *<link rel="stylesheet"[^>]*>\n/) ?? [];
if (!sheet) throw new Error('the built page names no sheet of styles');
writeFileSync('dist/index.html', page.replace(sheet, '').replace('  </body>', `${sheet}  </body>`));

const packed = new Map();
for (const name of readdirSync('dist/assets')) {
  if (!/\.(js|css|svg)$/.test(name)) continue;
  const path = join('dist/assets', name);
  const bytes = gzipSync(readFileSync(path), { level: 9 });
  packed.set(`assets/${name}`, bytes.length);
  writeFileSync(`${path}.gz`, bytes);
}

/** A built file with all that it cannot start without. */
function needs(files, key, found = new Set()) {
  const chunk = files[key];
  if (!chunk || found.has(chunk.file)) return found;
  found.add(chunk.file);
  for (const css of chunk.css ?? []) found.add(css);
  for (const next of chunk.imports ?? []) needs(files, next, found);
  return found;
}

const files = JSON.parse(readFileSync('dist/.vite/manifest.json', 'utf8'));
// It is for this script alone: the service would send it to whoever asks.
rmSync('dist/.vite', { recursive: true });
const start = needs(files, 'index.html');
const bytes = [...start].reduce((sum, file) => sum + (packed.get(file) ?? 0), 0) + gzipSync(readFileSync('dist/index.html')).length;
console.log(`to start: ${(bytes / 1000).toFixed(1)} KB of gzip in ${start.size + 1} files, of ${MOST_KB}`);
if (bytes > MOST_KB * 1000) {
  console.error('that is too much: something heavy is needed at the start that a page could fetch when it is opened');
  process.exit(1);
}
