/** Shares of the full resolution a view may be drawn at while it plays. */
const STEPS = [1, 0.7, 0.5, 0.36];
const LOOKED_AT = 8; // pictures that are judged together
const SLOW_MS = 1000 / 21; // longer than this between two pictures, and detail gives way
const LONGEST_MS = 400; // a pause of the whole page says nothing of what drawing costs

/**
 * Keeps playback fluent: detail drops before the rate does. While playing, `next` is told the time of every picture and
 * answers the share of the resolution to draw the next one at; it never gets finer before `stop`, so that it does not flicker.
 */
export class Pace {
  private step: number;
  private last = 0;
  private readonly intervals = new Float64Array(LOOKED_AT);
  private count = 0;

  constructor(private readonly first = 0) {
    this.step = first;
  }

  next(now: number): number {
    const interval = now - this.last;
    if (this.last > 0 && interval < LONGEST_MS) {
      this.intervals[this.count] = interval;
      this.count += 1;
    }
    this.last = now;
    if (this.count >= LOOKED_AT) {
      const middle = this.intervals.sort()[LOOKED_AT >> 1];
      if (middle > SLOW_MS && this.step < STEPS.length - 1) this.step += 1;
      this.count = 0;
    }
    return STEPS[this.step];
  }

  /** Full detail again; what was found to be needed is kept for the next time, but one step finer is tried. */
  stop(): number {
    this.last = 0;
    this.count = 0;
    this.step = Math.max(this.first, this.step - 1);
    return STEPS[0];
  }
}
