// A drawing of the page as a file of its own: what the page's rules make of it is written into it.

const KEPT = [
  'fill',
  'fill-opacity',
  'stroke',
  'stroke-width',
  'stroke-dasharray',
  'opacity',
  'font-family',
  'font-size',
  'font-weight',
  'text-anchor',
  'color',
  'paint-order',
];

export function standalone(svg: SVGSVGElement): string {
  const copy = svg.cloneNode(true) as SVGSVGElement;
  const [here, there] = [svg, copy].map((one) => [one, ...one.querySelectorAll('*')]);
  here?.forEach((element, at) => {
    const other = there?.[at];
    if (!other) return;
    const look = getComputedStyle(element);
    for (const name of KEPT) {
      const value = look.getPropertyValue(name);
      if (value !== '') other.setAttribute(name, value);
    }
    for (const name of ['class', 'role', 'tabindex', 'data-node', 'aria-pressed', 'aria-expanded'])
      other.removeAttribute(name);
  });
  const ground = document.createElementNS('http://www.w3.org/2000/svg', 'rect');
  ground.setAttribute('width', '100%');
  ground.setAttribute('height', '100%');
  ground.setAttribute('fill', getComputedStyle(document.documentElement).getPropertyValue('--ground').trim());
  copy.prepend(ground);
  copy.setAttribute('xmlns', 'http://www.w3.org/2000/svg');
  return `${new XMLSerializer().serializeToString(copy)}\n`;
}
