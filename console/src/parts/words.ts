// Times and sizes as people read them; the same words as the terminal's.

export function duration(ms: number): string {
  const whole = Math.max(0, ms);
  if (whole < 1000) return `${Math.round(whole)} ms`;
  if (whole < 9950) return `${Math.floor(whole / 1000)}.${Math.floor((whole % 1000) / 100)} s`;
  const seconds = Math.round(whole / 1000);
  if (seconds < 60) return `${seconds} s`;
  if (seconds < 3600) return `${Math.floor(seconds / 60)} m ${two(seconds % 60)} s`;
  return `${Math.floor(seconds / 3600)} h ${two(Math.floor((seconds % 3600) / 60))} m`;
}

export const two = (value: number) => String(value).padStart(2, '0');

/** How long something is ago or goes on, in one unit. */
export function age(ms: number): string {
  const minutes = Math.floor(Math.max(0, ms) / 60_000);
  if (minutes === 0) return `${Math.floor(Math.max(0, ms) / 1000)} s`;
  if (minutes < 60) return `${minutes} min`;
  if (minutes < 1440) return `${Math.floor(minutes / 60)} h`;
  return many(Math.floor(minutes / 1440), 'day');
}

export function bytes(count: number): string {
  if (count < 1024) return `${count} B`;
  if (count < 1024 ** 2) return `${(count / 1024).toFixed(1)} KiB`;
  if (count < 1024 ** 3) return `${(count / 1024 ** 2).toFixed(1)} MiB`;
  return `${(count / 1024 ** 3).toFixed(1)} GiB`;
}

/** `1 job`, `3 jobs`, `12,000 lines`; of a word whose plural is no `s`, that plural is given. */
export function many(count: number, one: string, more = `${one}s`): string {
  return `${count.toLocaleString('en')} ${count === 1 ? one : more}`;
}

/** A long name for a place with room for so many characters: what tells names apart stands at their ends. */
export function cutMiddle(name: string, most: number): string {
  if (name.length <= most) return name;
  const end = Math.floor((most - 1) / 2);
  return `${name.slice(0, most - 1 - end)}…${name.slice(name.length - end)}`;
}

export const time = (text: string) => new Date(text).getTime();

/** How long a run went on; someone may have brought it back long after it had ended. */
export function took(run: { started_at?: string | null; ended_at?: string | null; rest_ms?: number }, now: number) {
  if (!run.started_at) return undefined;
  return (run.ended_at ? time(run.ended_at) : now) - time(run.started_at) - (run.rest_ms ?? 0);
}
