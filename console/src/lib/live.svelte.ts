/** How everything stands, kept up to date from the event stream. */
import { Refused, api, type BoardView } from './api';
import { renewed } from './board';
import { Paced } from './paced';

/** Silence of the stream longer than this is shown as a cut. */
const SILENT_MS = 25_000;

export class Live {
  board = $state.raw<BoardView | null>(null);
  /** Milliseconds between this machine's clock and the server's. */
  skew = $state(0);
  /** Everything that answers was looked at since then. */
  lookedAt = $state(0);
  now = $state(Date.now());
  inTouchAt = $state(Date.now());
  cut = $state(false);
  trouble = $state<Refused | null>(null);
  /** What is said to those who do not see: thinned out. */
  spoken = $state('');

  /** What of the board is known. No state: who begins to look must not begin anew with every look. */
  #version: number | undefined;
  #source: EventSource | null = null;
  /** Many events at once are one look. */
  #paced = new Paced(() => this.refresh(), 120);
  #runListeners = new Set<(run: number) => void>();
  #timer: ReturnType<typeof setInterval> | null = null;

  start(): () => void {
    this.#connect();
    void this.refresh();
    // A browser has six connections to a server: a page that nobody sees gives its own back.
    const away = (): void => this.#source?.close();
    const seen = (): void => {
      if (document.visibilityState === 'hidden') return away();
      if (this.#source?.readyState !== EventSource.CLOSED) return;
      this.#connect();
      void this.refresh();
      for (const listener of this.#runListeners) listener(-1);
    };
    document.addEventListener('visibilitychange', seen);
    addEventListener('pagehide', away);
    addEventListener('pageshow', seen);
    this.#timer = setInterval(() => {
      this.now = Date.now();
      if (document.visibilityState === 'hidden') this.inTouchAt = this.now;
      if (this.now - this.inTouchAt > SILENT_MS && !this.cut) this.#lost();
      if (this.cut && this.#source?.readyState === EventSource.CLOSED) this.#connect();
    }, 1000);
    return () => {
      away();
      document.removeEventListener('visibilitychange', seen);
      removeEventListener('pagehide', away);
      removeEventListener('pageshow', seen);
      if (this.#timer) clearInterval(this.#timer);
    };
  }

  /** The server's time, near enough. */
  get serverNow(): number {
    return this.now + this.skew;
  }

  onRun(listener: (run: number) => void): () => void {
    this.#runListeners.add(listener);
    return () => this.#runListeners.delete(listener);
  }

  async refresh(): Promise<void> {
    try {
      this.take(await api.board(this.#version));
      this.trouble = null;
    } catch (error) {
      if (error instanceof Refused) this.trouble = error;
      else throw error;
    }
  }

  take(board: BoardView): void {
    this.skew = Date.parse(board.as_of) - Date.now();
    this.#version = board.version;
    this.lookedAt = Date.parse(board.looked_at);
    this.board = renewed(this.board, board);
    this.now = Date.now();
  }

  #connect(): void {
    this.#source?.close();
    const source = new EventSource('/api/v1/events');
    this.#source = source;
    const touched = (): void => {
      this.inTouchAt = Date.now();
      if (this.cut) {
        this.cut = false;
        this.spoken = 'In touch with the server again.';
        this.#paced.soon();
        for (const listener of this.#runListeners) listener(-1);
      }
    };
    source.addEventListener('hello', touched);
    source.addEventListener('quiet', touched);
    source.addEventListener('run', (event) => {
      touched();
      const { run } = JSON.parse((event as MessageEvent<string>).data) as { run: number };
      for (const listener of this.#runListeners) listener(run);
      this.#paced.soon();
    });
    // The server knows nothing of what was heard last: it was restored from a copy. All that is shown is asked for again.
    source.addEventListener('anew', () => {
      touched();
      this.#version = undefined;
      this.#paced.soon();
      for (const listener of this.#runListeners) listener(-1);
    });
    for (const topic of ['board', 'edition', 'server']) {
      source.addEventListener(topic, () => {
        touched();
        this.#paced.soon();
      });
    }
    source.onerror = () => this.#lost();
  }

  #lost(): void {
    if (!this.cut) this.spoken = 'Not in touch with the server. What is shown may be old.';
    this.cut = true;
  }
}

export const live = new Live();
