import { bodyAt, frameAt, type BodyLevels } from './pose';

const LEASH_M = 0.25; // so far hips go before the view goes with them: nobody wants it to sway with every step

/** Goes where a performer goes, as somebody does whom they have on a leash. */
export class Follower {
  private readonly at = new Float64Array(3);
  private readonly step = new Float64Array(3);
  private begun = false;

  /** Stand at the hips of a body at a moment. */
  begin(levels: BodyLevels, time: number) {
    const body = bodyAt(levels, time);
    const first = 3 * frameAt(body, time);
    for (let k = 0; k < 3; k += 1) this.at[k] = body.root[first + k];
    this.begun = this.at.every(Number.isFinite);
  }

  /** How far it goes on to that moment (x, y, z metres, the same array each time), or null where it stays. */
  follow(levels: BodyLevels, time: number): Float64Array | null {
    if (!this.begun) {
      this.begin(levels, time);
      return null;
    }
    const body = bodyAt(levels, time);
    const { root } = body;
    const first = 3 * frameAt(body, time);
    const away = Math.hypot(root[first] - this.at[0], root[first + 1] - this.at[1], root[first + 2] - this.at[2]);
    if (!(away > LEASH_M)) return null;
    for (let k = 0; k < 3; k += 1) {
      this.step[k] = (root[first + k] - this.at[k]) * (1 - LEASH_M / away);
      this.at[k] += this.step[k];
    }
    return this.step;
  }
}
