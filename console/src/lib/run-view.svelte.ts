/** One run, kept up to date from the event stream. */
import { Refused, api, type RunView } from './api';
import { live } from './live.svelte';
import { Paced } from './paced';
import { awaits } from './states';

/** A run with the steps that are new put in; a whole one takes its place. */
export function told(known: RunView | null, news: RunView): RunView {
  if (news.whole || !known) return news;
  if (news.steps.length === 0) return { ...news, steps: known.steps };
  // Steps are numbered from 1 and never taken out.
  const steps = [...known.steps];
  for (const step of news.steps) steps[step.planned.id - 1] = step;
  return { ...news, steps };
}

export class RunWatch {
  run = $state.raw<RunView | null>(null);
  refused = $state.raw<Refused | null>(null);
  /** The step whose evidence is shown: the one chosen, else one that awaits a decision, else the newest at work. */
  chosen = $state<number | null>(null);
  /** What of it is known. No state: see the board's. */
  #events: number | undefined;
  #paced = new Paced(() => this.load(), 80);

  constructor(readonly id: number) {}

  start(): () => void {
    void this.load();
    const off = live.onRun((run) => {
      if (run === this.id || run === -1) this.#paced.soon();
    });
    return () => {
      off();
      this.#paced.stop();
    };
  }

  /** Worked out once for each time that the run is told. */
  readonly shown = $derived.by((): number | null => {
    const steps = this.run?.steps ?? [];
    if (this.chosen !== null) return this.chosen;
    const failed = steps.find((s) => awaits(s.now));
    if (failed) return failed.planned.id;
    let newest = steps[0];
    for (const step of steps) if (step.now.began_at && step.now.began_at >= (newest?.now.began_at ?? '')) newest = step;
    return newest?.planned.id ?? null;
  });

  async load(): Promise<void> {
    try {
      const news = await api.run(this.id, this.#events);
      this.run = told(this.run, news);
      this.#events = news.events;
      this.refused = null;
    } catch (error) {
      if (!(error instanceof Refused)) throw error;
      if (error.problem.status !== 0) this.refused = error;
    }
  }
}
