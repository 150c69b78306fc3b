// The page in a real browser: it is asked for what it shows once its script has run.
const { execFileSync } = require('node:child_process')
const test = require('node:test')

test('the next high water is shown', () => {
  const flags = ['--headless', '--no-sandbox', '--disable-gpu', '--disable-dev-shm-usage', '--virtual-time-budget=5000']
  const shown = execFileSync('chromium', [...flags, '--dump-dom', process.env.SITE], { encoding: 'utf8', stdio: ['ignore', 'pipe', 'ignore'] })
  if (!shown.includes('next: north-pier at 04:12')) throw new Error(shown)
})
