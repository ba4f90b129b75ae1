/** Calls that may take long, one at a time: many wishes at once are one call, and the next comes no sooner than the last one took. */
export class Paced {
  #wanted = false;
  #busy = false;
  #timer: ReturnType<typeof setTimeout> | null = null;
  /** When the next may begin, by the page's clock. */
  #free = 0;

  /** `pauseMs` is the least that lies between the end of a call and the next. */
  constructor(
    readonly call: () => Promise<unknown>,
    readonly pauseMs: number,
  ) {}

  /** Wishes for a call: at once where none was made just now, else after the pause. */
  soon(): void {
    this.#wanted = true;
    if (this.#busy || this.#timer) return;
    this.#timer = setTimeout(() => void this.#go(), Math.max(0, this.#free - performance.now()));
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
      const ended = performance.now();
      this.#free = ended + Math.max(this.pauseMs, ended - began);
      this.#busy = false;
      if (this.#wanted) this.soon();
    }
  }
}
