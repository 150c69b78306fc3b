// What only a browser does: the next high water, from the table of the page.
const first = document.querySelector('tr')
document.querySelector('#next').textContent = `next: ${first.cells[0].textContent} at ${first.cells[1].textContent}`
