// A few words beside the pointer, at once: one box for the whole page.

let box: HTMLDivElement | undefined;

function made(): HTMLDivElement {
  if (!box) {
    box = document.createElement('div');
    box.className = 'tip';
    box.setAttribute('aria-hidden', 'true');
    document.body.append(box);
  }
  return box;
}

/** Where a box of this size goes, so that it is within the window and not below the pointer. */
export function place(x: number, y: number, width: number, height: number, room: { width: number; height: number }) {
  const left = Math.max(4, Math.min(x + 12, room.width - width - 4));
  const below = y + 18;
  return { left, top: below + height + 4 > room.height ? Math.max(4, y - height - 10) : below };
}

export function showTip(words: string, x: number, y: number) {
  const tip = made();
  tip.textContent = words;
  tip.hidden = false;
  const { width, height } = tip.getBoundingClientRect();
  const room = { width: window.innerWidth, height: window.innerHeight };
  const { left, top } = place(x, y, width, height, room);
  tip.style.translate = `${left}px ${top}px`;
}

export function hideTip() {
  if (box) box.hidden = true;
}
