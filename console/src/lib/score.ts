/** The score: a run drawn as lanes against time. Pure: from a run's view to shapes. */
import type { RunView, StepView } from './api';
import { asks, awaits } from './states';
import { ms } from './time';

export type Shape =
  | { kind: 'pause' | 'sink' | 'act' | 'fail' | 'ghost' | 'wait'; from: number; to: number; step: number }
  | { kind: 'prove'; from: number; to: number; step: number; ticks: number[]; proven: boolean };

export interface Lane {
  address: string;
  host: string;
  name: string;
  title: string;
  shapes: Shape[];
  /** The forecast, behind what really was. */
  ghosts: { from: number; to: number; critical: boolean }[];
  /** What is said beside a failed step. */
  failed: { at: number; says: string } | null;
  /** When a person is asked. */
  asked: number | null;
  steps: number[];
  views: StepView[];
}

export interface Score {
  lanes: Lane[];
  /** Whether a step of any lane failed, drawn or not. */
  failed: boolean;
  from: number;
  to: number;
  now: number | null;
}

/** The heading over the lanes of work, waits, questions and looks. */
export const BETWEEN = 'Between them';

/** From when to when each step goes, by its number. A Map of thousands takes ten times as long to make. */
export class Spans {
  readonly from: Float64Array;
  readonly to: Float64Array;

  constructor(steps: readonly StepView[]) {
    const last = steps.reduce((most, s) => Math.max(most, s.planned.id), 0);
    this.from = new Float64Array(last + 1).fill(NaN);
    this.to = new Float64Array(last + 1).fill(NaN);
  }

  set(step: number, from: number, to: number): void {
    this.from[step] = from;
    this.to[step] = to;
  }

  get(step: number): { from: number; to: number } | undefined {
    const [from, to] = [this.from[step], this.to[step]];
    return from === undefined || to === undefined || Number.isNaN(from) ? undefined : { from, to };
  }

  /** When the last of them ends, or that instant. */
  latest(least: number): number {
    let latest = least;
    for (const to of this.to) if (to > latest) latest = to;
    return latest;
  }

  /** When all that a step waits for has ended. */
  afterAll(waits: readonly { step: number }[], began: number): number {
    let after = began;
    for (const wait of waits) {
      const to = this.to[wait.step];
      if (to !== undefined && to > after) after = to;
    }
    return after;
  }
}

interface Times {
  began: number | null;
  ended: number | null;
}

/** Instants are read once of each step as it was told: it is told anew when it changes. */
const read = new WeakMap<StepView, Times>();

function timesOf(view: StepView): Times {
  let times = read.get(view);
  if (!times) {
    times = { began: view.now.began_at ? ms(view.now.began_at) : null, ended: view.now.ended_at ? ms(view.now.ended_at) : null };
    read.set(view, times);
  }
  return times;
}

/** When each step would begin and end: begun ones as they were, others after what they wait for. */
export function forecast(run: RunView, now: number): Spans {
  const spans = new Spans(run.steps);
  // Steps are numbered by rank: what one waits for has a lower number.
  const began = ms(run.began_at);
  for (const view of run.steps) {
    const { planned } = view;
    const { began: begun, ended } = timesOf(view);
    const after = begun ?? spans.afterAll(planned.waits, began);
    const from = begun ?? Math.max(after, run.ended_at ? after : now);
    spans.set(planned.id, from, ended ?? Math.max(from + planned.usual_ms, begun ? now : 0));
  }
  return spans;
}

/** When each step would have begun and ended had everything gone as usual. */
export function usual(run: RunView): Spans {
  const spans = new Spans(run.steps);
  const began = ms(run.began_at);
  for (const { planned } of run.steps) {
    const from = spans.afterAll(planned.waits, began);
    spans.set(planned.id, from, from + planned.usual_ms);
  }
  return spans;
}

function shapesOf(view: StepView, now: number): Shape[] {
  const { planned, now: step } = view;
  const id = planned.id;
  if (!step.began_at) return [];
  const shapes: Shape[] = [];
  let at = ms(step.began_at);
  const end = step.ended_at ? ms(step.ended_at) : now;
  for (const [i, act] of step.acts.entries()) {
    const intended = ms(act.intended_at);
    if (intended - at > 40) shapes.push({ kind: 'pause', from: at, to: intended, step: id });
    const next = step.acts[i + 1];
    const over = act.failed ? ms(act.failed[0]) : next ? ms(next.intended_at) : end;
    if (planned.kind === 'work' || planned.kind === 'act' || planned.kind === 'announce') {
      shapes.push({ kind: act.failed ? 'fail' : 'act', from: intended, to: Math.max(over, intended + 60), step: id });
    } else if (planned.kind === 'stop') {
      shapes.push({ kind: act.failed ? 'fail' : 'sink', from: intended, to: over, step: id });
    } else {
      const ticks = act.rungs.filter((r) => r.climbed).map((r) => ms(r.at));
      const acted = Math.min(ticks[0] ?? over, over);
      shapes.push({ kind: 'act', from: intended, to: acted, step: id });
      if (act.failed) shapes.push({ kind: 'fail', from: acted, to: over, step: id });
      else if (over > acted) shapes.push({ kind: 'prove', from: acted, to: over, step: id, ticks, proven: !!step.ended_at });
    }
    at = over;
  }
  if (step.acts.length === 0) shapes.push({ kind: 'wait', from: at, to: end, step: id });
  else if (!step.ended_at && step.state === 'pausing' && now > at) shapes.push({ kind: 'pause', from: at, to: now, step: id });
  return shapes;
}

interface Bare {
  address: string;
  host: string;
  name: string;
  title: string;
  /** Places in the run's steps. */
  at: number[];
  /** Its lane while it is not drawn. */
  blank: Lane;
}

function bareLane(address: string, cut: number, title: string, at: number): Bare {
  const of = { address, host: address.slice(0, cut), name: address.slice(cut + 1), title };
  return { ...of, at: [at], blank: { ...of, shapes: [], ghosts: [], failed: null, asked: null, steps: [], views: [] } };
}

/** What of a run's score stays the same while its steps do: whose lanes there are, in which order, and what was usual. */
export class Layout {
  #of = '';
  lanes: Bare[] = [];
  usual = new Spans([]);

  /** Looks whether the run has other steps than before: steps are added, and never changed or taken out. */
  of(run: RunView): this {
    const of = `${run.id} ${run.steps.length}`;
    if (of === this.#of) return this;
    this.#of = of;
    const lanes = new Map<string, Bare>();
    for (const [i, view] of run.steps.entries()) {
      // What is no service's has a lane of its own, above those of the services.
      const address = view.planned.address ?? `${BETWEEN}/${view.says}`;
      const cut = address.indexOf('/');
      const lane = lanes.get(address);
      if (lane) lane.at.push(i);
      else lanes.set(address, bareLane(address, cut, view.title, i));
    }
    const first = (lane: Bare): number => (lane.host === BETWEEN ? (lane.at[0] ?? 0) : Number.MAX_SAFE_INTEGER);
    this.lanes = [...lanes.values()].sort((a, b) => first(a) - first(b) || (a.address < b.address ? -1 : 1));
    this.usual = usual(run);
    return this;
  }
}

/** Lays the score out. `now` is the server's time. Of a long run only the lanes in `within` are drawn. */
export function score(run: RunView, now: number, within: readonly [number, number] = [0, Infinity], layout = new Layout()): Score {
  const over = run.ended_at ? ms(run.ended_at) : null;
  const at = over ?? now;
  const coming = forecast(run, at);
  const laid = layout.of(run);
  const from = ms(run.began_at);
  const to = coming.latest(Math.max(at, over ?? 0, from + 2000));
  const isFailed = (place: number): boolean => !!run.steps[place] && awaits(run.steps[place].now);
  let failed = false;
  const lanes = laid.lanes.map((bare, i): Lane => {
    failed ||= bare.at.some(isFailed);
    // Of ten thousand lanes those that nobody sees are made once.
    return i >= within[0] && i < within[1] ? drawn(bare, run, at, coming, laid.usual) : bare.blank;
  });
  return { lanes, failed, from, to: to + (to - from) * 0.04, now: over === null ? now : null };
}

function drawn(bare: Bare, run: RunView, at: number, coming: Spans, foreseen: Spans): Lane {
  const { address, host, name, title } = bare;
  const lane: Lane = { address, host, name, title, shapes: [], ghosts: [], failed: null, asked: null, steps: [], views: [] };
  for (const place of bare.at) {
    const view = run.steps[place];
    if (!view) continue;
    lane.steps.push(view.planned.id);
    lane.views.push(view);
    if (asks(view.now)) lane.asked = at;
    if (awaits(view.now)) {
      const failed = view.now.acts.findLast((a) => a.failed)?.failed;
      const tries = view.now.attempts > 1 ? `${view.now.attempts} tries: ` : '';
      const reason = 'reason' in view.now ? view.now.reason : '';
      lane.failed = { at: failed ? ms(failed[0]) : at, says: tries + reason };
    }
  }
  draw(lane, at, coming, foreseen);
  return lane;
}

function draw(lane: Lane, at: number, coming: Spans, foreseen: Spans): void {
  for (const view of lane.views) {
    const id = view.planned.id;
    lane.shapes.push(...shapesOf(view, at));
    const ghost = foreseen.get(id);
    // What was not planned at the begin has no forecast to stand before.
    if (ghost && view.planned.usual_ms > 0 && view.planned.part === 'forward') lane.ghosts.push({ ...ghost, critical: view.planned.critical });
    if (!view.now.began_at && view.now.state !== 'ended') {
      const time = coming.get(id);
      if (time) lane.shapes.push({ kind: 'ghost', from: time.from, to: Math.max(time.to, time.from + 200), step: id });
    }
  }
}
