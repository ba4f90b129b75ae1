/** A procedure being changed: its text, what the text says, and what the server finds of it. */
import { Refused, api, type Draft } from './api';
import { applied, type Edit, type Written } from './step-keys';

interface Kept {
  text: string;
  edition: number;
}

export class Drafting {
  text = $state.raw('');
  written = $state.raw<Written>({});
  found = $state.raw<Draft | null>(null);
  refused = $state.raw<Refused | null>(null);
  /** Why the last move was taken back. */
  takenBack = $state('');
  /** The line at which what was not moved stands. */
  standsAt = $state<number | null>(null);
  /** Whether what is shown came from what was left unkept before. */
  restored = $state(false);
  busy = $state(false);
  /** How many answers have come. */
  answers = $state(0);
  /** The edition it is made on. */
  edition = 0;

  #name: string;
  #edits: Edit[] = [];
  #mayBeTakenBack: { text: string; written: Written } | null = null;
  #typed: string | null = null;
  #rest: ReturnType<typeof setTimeout> | undefined;

  constructor(name: string) {
    this.#name = name;
  }

  get #key(): string {
    return `draft:${this.#name}`;
  }

  /** Begins with the newest edition, or with what was left here before. */
  async begin(copyOf: string | null): Promise<void> {
    let kept: Kept | null = null;
    try {
      kept = JSON.parse(localStorage.getItem(this.#key) ?? 'null') as Kept | null;
    } catch {
      localStorage.removeItem(this.#key);
    }
    await this.#ask({ text: kept?.text ?? null, copy_of: kept ? null : copyOf, edits: [] });
    this.restored = kept !== null && (this.found?.difference.new ?? 0) + (this.found?.difference.gone ?? 0) > 0;
    // What was begun on an older edition is judged by that one.
    if (kept) this.edition = kept.edition;
  }

  /** Makes a change: shown at once, in the text as soon as the server has made it. */
  edit(...edits: Edit[]): void {
    if (edits.length === 0) return;
    this.takenBack = '';
    if (!this.busy && this.#edits.length === 0 && edits.every((e) => e.edit === 'move') && this.found?.good) this.#mayBeTakenBack = { text: this.text, written: this.written };
    else this.#mayBeTakenBack = null;
    for (const edit of edits) this.written = applied(this.written, edit);
    this.#edits.push(...edits);
    void this.#go();
  }

  /** Takes a text as it is typed, once typing rests. */
  type(text: string): void {
    if (text === this.text) return;
    this.text = text;
    this.#typed = text;
    localStorage.setItem(this.#key, JSON.stringify({ text, edition: this.edition } satisfies Kept));
    this.#mayBeTakenBack = null;
    this.takenBack = '';
    clearTimeout(this.#rest);
    this.#rest = setTimeout(() => void this.#go(), 200);
  }

  /** Forgets every change. */
  async discard(): Promise<void> {
    localStorage.removeItem(this.#key);
    this.restored = false;
    this.takenBack = '';
    await this.#ask({ text: null, copy_of: null, edits: [] });
  }

  /** It is an edition now. */
  done(): void {
    localStorage.removeItem(this.#key);
  }

  async #go(): Promise<void> {
    if (this.busy) return;
    while (this.#edits.length > 0 || this.#typed !== null) {
      const edits = this.#edits;
      const text = this.#typed ?? this.text;
      this.#edits = [];
      this.#typed = null;
      await this.#ask({ text, copy_of: null, edits });
      if (this.refused) break;
    }
  }

  async #ask(request: { text: string | null; copy_of: string | null; edits: Edit[] }): Promise<void> {
    this.busy = true;
    try {
      const found = await api.draft(this.#name, request);
      const back = this.#mayBeTakenBack;
      this.#mayBeTakenBack = null;
      const fault = back && found.faults.find((f) => f.kind === 'out-of-place');
      if (back && fault) {
        // A move that breaks a relation is not made; the relation is named.
        [this.text, this.written] = [back.text, back.written];
        this.standsAt = request.edits.find((e) => e.edit === 'move')?.line ?? null;
        this.takenBack = `Not moved. ${fault.message.charAt(0).toUpperCase()}${fault.message.slice(1)}; ${fault.mend}.`;
        return;
      }
      this.found = found;
      this.answers += 1;
      this.refused = null;
      if (this.edition === 0) this.edition = found.edition;
      // What was typed or changed meanwhile stands; its answer comes next.
      if (this.#typed === null) this.text = found.text;
      if (this.#typed === null && this.#edits.length === 0) this.written = found.written as Written;
      const same = found.difference.new === 0 && found.difference.gone === 0;
      if (same) localStorage.removeItem(this.#key);
      else localStorage.setItem(this.#key, JSON.stringify({ text: this.text, edition: this.edition } satisfies Kept));
    } catch (error) {
      if (!(error instanceof Refused)) throw error;
      this.refused = error;
      if (error.problem.status === 0) {
        // Nobody answered: what was changed is kept, and tried again.
        this.#edits = [...request.edits, ...this.#edits];
        if (this.#typed === null && request.edits.length === 0 && request.text !== null) this.#typed = request.text;
        clearTimeout(this.#rest);
        this.#rest = setTimeout(() => void this.#go(), 2000);
      } else if (this.found) {
        // The change was none: what is written is as it was.
        this.written = this.found.written as Written;
      }
    } finally {
      this.busy = false;
    }
  }
}
