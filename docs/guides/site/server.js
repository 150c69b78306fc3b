// Serves the built pages on the port given.
const fs = require('node:fs')
const http = require('node:http')
http
  .createServer((request, answer) => {
    const file = request.url === '/page.js' ? 'dist/page.js' : 'dist/index.html'
    answer.setHeader('content-type', file.endsWith('.js') ? 'text/javascript' : 'text/html; charset=utf-8')
    answer.end(fs.readFileSync(file))
  })
  .listen(Number(process.argv[2]), '127.0.0.1')
