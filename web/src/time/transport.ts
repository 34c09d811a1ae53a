/** Where in the take we are, and whether it plays. Listeners are called outside React, at the display's rate. */
export class Transport {
  time = 0;
  speed = 0;
  private listeners = new Set<(time: number) => void>();
  private last = 0;
  private request = 0;

  constructor(
    public duration: number,
    readonly frame: number,
  ) {}

  subscribe(listener: (time: number) => void): () => void {
    this.listeners.add(listener);
    listener(this.time);
    return () => this.listeners.delete(listener);
  }

  seek(time: number): void {
    this.time = Math.min(Math.max(time, 0), this.duration);
    for (const listener of this.listeners) listener(this.time);
  }

  step(frames: number): void {
    this.stop();
    this.seek((Math.round(this.time / this.frame) + frames) * this.frame);
  }

  play(speed: number): void {
    if (speed !== 0 && this.time >= this.duration && speed > 0) this.time = 0;
    this.speed = speed;
    this.last = performance.now();
    cancelAnimationFrame(this.request);
    if (speed !== 0) this.request = requestAnimationFrame(this.tick);
    this.seek(this.time);
  }

  stop(): void {
    if (this.speed !== 0) this.play(0);
  }

  toggle(): void {
    this.play(this.speed === 0 ? 1 : 0);
  }

  /** J and L: each press goes one step further that way, doubling from the second on. */
  shuttle(direction: 1 | -1): void {
    const same = this.speed * direction > 0;
    this.play(same ? Math.max(-8, Math.min(8, this.speed * 2)) : direction);
  }

  private tick = (now: number) => {
    const time = this.time + ((now - this.last) / 1000) * this.speed;
    this.last = now;
    this.seek(time);
    if ((this.time >= this.duration && this.speed > 0) || (this.time <= 0 && this.speed < 0)) this.speed = 0;
    if (this.speed !== 0) this.request = requestAnimationFrame(this.tick);
    else this.seek(this.time);
  };
}
