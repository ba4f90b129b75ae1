import { describe, expect, it, vi } from 'vitest';

vi.mock('./live.svelte', () => ({ live: { onRun: () => () => undefined } }));

import type { RunView, StepView } from './api';
import { RunWatch, told } from './run-view.svelte';

const step = (id: number, state: string, began_at: string | null = null, more: object = {}): StepView => ({ planned: { id }, now: { state, began_at, ...more } }) as unknown as StepView;
const run = (steps: StepView[], whole: boolean, events = 1): RunView => ({ id: 7, steps, whole, events }) as unknown as RunView;

describe('a run, told by what is new', () => {
  const known = run([step(1, 'ended'), step(2, 'acting'), step(3, 'waiting')], true);
  const states = (view: RunView): string[] => view.steps.map((s) => s.now.state);

  it('takes the steps that changed in, each in its place', () => {
    const now = told(known, run([step(3, 'acting'), step(2, 'proving')], false, 9));
    expect([states(now), now.events]).toEqual([['ended', 'proving', 'acting'], 9]);
    expect(now.steps[0]).toBe(known.steps[0]);
  });

  it('takes steps in that were added', () => {
    expect(states(told(known, run([step(4, 'waiting')], false)))).toEqual(['ended', 'acting', 'waiting', 'waiting']);
  });

  it('keeps its steps where none changed', () => {
    expect(told(known, run([], false, 2)).steps).toBe(known.steps);
  });

  it.each([
    ['a whole one', known, true],
    ['the first', null, false],
  ])('is replaced by %s', (_, before, whole) => {
    const news = run([step(1, 'failed')], whole);
    expect(told(before, news)).toBe(news);
  });
});

describe('the step whose evidence is shown', () => {
  const watch = (steps: StepView[]): RunWatch => {
    const of = new RunWatch(7);
    of.run = run(steps, true);
    return of;
  };

  it.each([
    ['the newest at work', [step(1, 'ended', '2026-11-25T02:40:00Z'), step(2, 'acting', '2026-11-25T02:40:09Z'), step(3, 'waiting')], 2],
    ['one that awaits a decision', [step(1, 'failed', '2026-11-25T02:40:00Z'), step(2, 'acting', '2026-11-25T02:40:09Z')], 1],
    ['no question, which is asked elsewhere', [step(1, 'asking', '2026-11-25T02:40:00Z', { answer: 'yes-no' }), step(2, 'acting', '2026-11-25T02:40:09Z')], 2],
    ['the first, where none has begun', [step(1, 'waiting'), step(2, 'waiting')], 1],
    ['none of none', [], null],
  ])('is %s', (_, steps, shown) => {
    expect(watch(steps).shown).toBe(shown);
  });

  it('is the one that was chosen, whatever happens', () => {
    const of = watch([step(1, 'failed', '2026-11-25T02:40:00Z'), step(2, 'acting', '2026-11-25T02:40:09Z')]);
    of.chosen = 2;
    expect(of.shown).toBe(2);
    of.run = run([step(1, 'failed'), step(2, 'failed'), step(3, 'acting')], true);
    expect(of.shown).toBe(2);
  });
});
