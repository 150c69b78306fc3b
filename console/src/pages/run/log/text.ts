// biome-ignore-all lint/suspicious/noControlCharactersInRegex: what programs print for a terminal is made of them
// A line of a log as it is shown: what tools print for a terminal becomes plain parts, each with the colours of the
// palette that are nearest to those it asked for.
import Anser from 'anser';

export interface Part {
  text: string;
  /** Classes of the console's own. */
  look: string;
}

/** Of a longer line only the beginning is drawn, in characters: raw text has all of it. */
export const LONGEST = 20_000;
const TAB = 8;

const OTHER_SEQUENCES =
  /\u001b\][^\u0007\u001b]*(?:\u0007|\u001b\\)|\u001b\[[0-9;?]*[A-Za-ln-z@`~]|\u001b[()][0-9A-B]|\u001b[=>78DEHMNOc]/g;
const INVISIBLE = /[\u0000-\u0008\u000b-\u001a\u001c-\u001f\u007f\u202a-\u202e\u2066-\u2069]/g;

/** What stays of a line once it has been overwritten, moved about and coloured: its text, still with its colours. */
export function settled(raw: string): string {
  let end = raw.length;
  while (raw[end - 1] === '\r') end -= 1;
  const begin = raw.lastIndexOf('\r', end - 1) + 1;
  const last = raw.slice(begin, Math.min(end, begin + 4 * LONGEST));
  const text = last.replace(OTHER_SEQUENCES, '').replace(INVISIBLE, '');
  return text.length > LONGEST ? `${text.slice(0, LONGEST)} …` : text;
}

const COLOURS = /\u001b\[[0-9;:]*m/g;

/** A line's text alone, as it is copied. */
export const plain = (raw: string) => settled(raw).replace(COLOURS, '').replaceAll('\u001b', '');

/** Tabs as the blanks that a terminal would show. */
export function spread(text: string): string {
  if (!text.includes('\t')) return text;
  let column = 0;
  let out = '';
  for (const part of text.split(/(\t)/)) {
    const blanks = part === '\t' ? ' '.repeat(TAB - (column % TAB)) : part;
    out += blanks;
    column += width(blanks);
  }
  return out;
}

/** Columns that a text takes: wide characters two, combining marks none. */
export function width(text: string): number {
  if (/^[\x00-\x7f]*$/.test(text)) return text.length;
  let columns = 0;
  for (const char of text) {
    if (/\p{M}|\u200d|\ufe0f/u.test(char)) continue;
    const wide =
      /[\u1100-\u115f\u2e80-\ua4cf\uac00-\ud7a3\uf900-\ufaff\ufe30-\ufe6f\uff00-\uff60\uffe0-\uffe6]|\p{Emoji_Presentation}/u;
    columns += wide.test(char) ? 2 : 1;
  }
  return columns;
}

/** How many rows a line has when it is wrapped at so many columns. */
export function rowsOf(raw: string, columns: number): number {
  return Math.max(1, Math.ceil(width(spread(plain(raw))) / Math.max(1, columns)));
}

/** A line in parts of one look each. */
export function parts(raw: string): Part[] {
  const text = settled(raw);
  if (!text.includes('\u001b')) return [{ text: spread(text), look: '' }];
  return Anser.ansiToJson(text, { remove_empty: true, use_classes: true }).map((part) => ({
    text: spread(part.content.replaceAll('\u001b', '')),
    look: [
      part.fg ? `ansi-${colour(part.fg, part.fg_truecolor)}` : '',
      part.bg ? `ansi-on-${colour(part.bg, part.bg_truecolor)}` : '',
      ...part.decorations.map((decoration) => `ansi-${decoration}`),
    ]
      .filter(Boolean)
      .join(' '),
  }));
}

const NAMES = ['black', 'red', 'green', 'yellow', 'blue', 'magenta', 'cyan', 'white'];

/** The nearest of a terminal's eight colours: of its own classes, of the 256, of any red, green and blue. */
export function colour(name: string, exact: string | null): string {
  const numbered = name.match(/^ansi-palette-(\d+)$/)?.[1];
  if (numbered) return ofPalette(Number(numbered));
  if (name === 'ansi-truecolor') return nearest((exact ?? '').split(',').map(Number));
  return NAMES.find((one) => name === `ansi-${one}` || name === `ansi-bright-${one}`) ?? 'white';
}

function ofPalette(number: number): string {
  if (number < 16) return NAMES[number % 8] ?? 'white';
  if (number >= 232) return number < 244 ? 'black' : 'white';
  const cube = number - 16;
  return nearest([Math.floor(cube / 36), Math.floor(cube / 6) % 6, cube % 6].map((level) => level * 51));
}

function nearest([red = 0, green = 0, blue = 0]: number[]): string {
  const [most, least] = [Math.max(red, green, blue), Math.min(red, green, blue)];
  if (most - least < 48) return most < 128 ? 'black' : 'white';
  const half = (most + least) / 2;
  const bits = (red > half ? 1 : 0) + (green > half ? 2 : 0) + (blue > half ? 4 : 0);
  return NAMES[bits] ?? 'white';
}

/** Where a pattern stands in a text: beginnings and ends, in order. */
export function marksIn(text: string, pattern: RegExp | undefined): [number, number][] {
  if (!pattern) return [];
  const found: [number, number][] = [];
  for (const match of text.matchAll(pattern)) {
    if (match[0] !== '') found.push([match.index, match.index + match[0].length]);
    if (found.length >= 100) break;
  }
  return found;
}

/** Parts cut at what is marked, each with whether it is. */
export function marked(all: Part[], marks: [number, number][]): (Part & { found: boolean })[] {
  if (marks.length === 0) return all.map((part) => ({ ...part, found: false }));
  const cuts = [...new Set(marks.flat())].sort((a, b) => a - b);
  const out: (Part & { found: boolean })[] = [];
  let at = 0;
  for (const part of all) {
    const end = at + part.text.length;
    const places = [at, ...cuts.filter((cut) => cut > at && cut < end), end];
    for (let index = 0; index + 1 < places.length; index += 1) {
      const [from = 0, to = 0] = [places[index], places[index + 1]];
      if (from === to) continue;
      const found = marks.some(([begin, until]) => begin <= from && to <= until);
      out.push({ text: part.text.slice(from - at, to - at), look: part.look, found });
    }
    at = end;
  }
  return out;
}
