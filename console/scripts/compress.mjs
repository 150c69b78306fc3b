// Compresses what was built once, so that the service sends it as it is.
import { readdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { gzipSync } from 'node:zlib';

for (const name of readdirSync('dist/assets')) {
  const path = join('dist/assets', name);
  if (/\.(js|css|svg)$/.test(name)) writeFileSync(`${path}.gz`, gzipSync(readFileSync(path), { level: 9 }));
}
