/** One run, kept up to date from the event stream. */
import { Refused, api, type RunView } from './api';
import { live } from './live.svelte';
import { awaits } from './states';

export class RunWatch {
  run = $state.raw<RunView | null>(null);
  refused = $state.raw<Refused | null>(null);
  /** The step whose evidence is shown: the one chosen, else one that awaits a decision, else the newest at work. */
  chosen = $state<number | null>(null);
  #again: ReturnType<typeof setTimeout> | null = null;

  constructor(readonly id: number) {}

  start(): () => void {
    void this.load();
    const off = live.onRun((run) => {
      if (run === this.id || run === -1) this.#soon();
    });
    return () => {
      off();
      if (this.#again) clearTimeout(this.#again);
    };
  }

  get shown(): number | null {
    const steps = this.run?.steps ?? [];
    if (this.chosen !== null) return this.chosen;
    const failed = steps.find((s) => awaits(s.now));
    if (failed) return failed.planned.id;
    const newest = steps.filter((s) => s.now.began_at).sort((a, b) => (a.now.began_at! < b.now.began_at! ? 1 : -1))[0];
    return newest?.planned.id ?? steps[0]?.planned.id ?? null;
  }

  async load(): Promise<void> {
    try {
      this.run = await api.run(this.id);
      this.refused = null;
    } catch (error) {
      if (!(error instanceof Refused)) throw error;
      if (error.problem.status !== 0) this.refused = error;
    }
  }

  #soon(): void {
    this.#again ??= setTimeout(() => {
      this.#again = null;
      void this.load();
    }, 80);
  }
}
