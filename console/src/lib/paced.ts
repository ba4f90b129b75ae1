/** Calls that may take long, one at a time: many wishes at once are one call, and the next comes no sooner than the last one took. */
export class Paced {
  #wanted = false;
  #busy = false;
  #timer: ReturnType<typeof setTimeout> | null = null;
  #tookMs = 0;

  /** `pauseMs` is the least that lies between a wish and its call. */
  constructor(
    readonly call: () => Promise<unknown>,
    readonly pauseMs: number,
  ) {}

  /** Wishes for a call: soon, or once the one under way is through. */
  soon(): void {
    this.#wanted = true;
    if (this.#busy || this.#timer) return;
    this.#timer = setTimeout(() => void this.#go(), Math.max(this.pauseMs, this.#tookMs));
  }

  /** Drops what was wished for. */
  stop(): void {
    this.#wanted = false;
    if (this.#timer) clearTimeout(this.#timer);
    this.#timer = null;
  }

  async #go(): Promise<void> {
    this.#timer = null;
    this.#wanted = false;
    this.#busy = true;
    const began = performance.now();
    try {
      await this.call();
    } finally {
      this.#tookMs = performance.now() - began;
      this.#busy = false;
      if (this.#wanted) this.soon();
    }
  }
}
