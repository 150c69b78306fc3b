// The time, moving: all that shows it moves together, by one timer a pace.
import { useSyncExternalStore } from 'react';

/** How often it moves, in milliseconds: a duration that grows, or an age. */
type Pace = 500 | 10_000;

class Clock {
  private listeners = new Set<() => void>();
  private timer: number | undefined;
  now = Date.now();

  constructor(private pace: Pace) {}

  subscribe = (tell: () => void) => {
    this.listeners.add(tell);
    if (this.timer === undefined) {
      this.now = Date.now();
      this.timer = window.setInterval(this.tick, this.pace);
    }
    return () => {
      this.listeners.delete(tell);
      if (this.listeners.size > 0) return;
      window.clearInterval(this.timer);
      this.timer = undefined;
    };
  };

  private tick = () => {
    this.now = Date.now();
    for (const tell of this.listeners) tell();
  };
}

const clocks: Record<Pace, Clock> = { 500: new Clock(500), 10000: new Clock(10_000) };
const stand = () => () => undefined;

/** The time now; it moves while `moving`. */
export function useNow(moving: boolean, pace: Pace = 500): number {
  const clock = clocks[pace];
  return useSyncExternalStore(moving ? clock.subscribe : stand, () => clock.now);
}
