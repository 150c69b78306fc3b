// The pages, from the tables.
const fs = require('node:fs')
const rows = require('tide-tables').map((row) => `<tr><td>${row.station}<td>${row.high}`)
fs.mkdirSync('dist', { recursive: true })
fs.copyFileSync('src/page.js', 'dist/page.js')
fs.writeFileSync(
  'dist/index.html',
  `<!doctype html><title>High water</title><table>${rows.join('')}</table><p id=next><script src=page.js></script>`,
)
