import { describe, expect, it } from 'vitest';

import type { RunView, StepView } from './api';
import { Layout, Spans, forecast, score } from './score';

const t = (s: number): string => new Date(Date.UTC(2026, 0, 1, 2, 38, s)).toISOString();
const at = (s: number): number => Date.UTC(2026, 0, 1, 2, 38, s);

function step(id: number, address: string, waits: number[], now: Partial<StepView['now']>): StepView {
  return {
    title: address,
    says: `start ${address}`,
    row: address,
    if_it_fails: 'hold',
    rungs: ['process', 'port 1'],
    planned: { id, address, kind: 'start', waits: waits.map((s) => ({ step: s, release: 'when-good' })), usual_ms: 4000, slow_ms: 6000, basis: 'history', part: 'forward', tail_ms: 8000, critical: true, rank: id, found: 'down', why: { kind: 'chosen' } },
    now: { state: 'waiting', attempts: 0, acts: [], rungs: [], ...now } as StepView['now'],
  };
}

function run(steps: StepView[], ended_at: string | null = null): RunView {
  return { id: 1, state: 'running', title: '', who: '', edition: 1, began_at: t(0), ended_at, queued_behind: [], held_because: [], allowed: [], overrides: {}, released: [], part: 'forward', values: {}, preflight: [], taken_by: '', notes: [], in_freeze: [], steps, differences: [], otherwise: [], events: 1, whole: true, steps_in_all: [steps.length, 0] } as unknown as RunView;
}

const act = (from: number, over: { failed?: [string, string] | null; ticks?: number[] }): StepView['now']['acts'][number] =>
  ({ act: 1, kind: 'start', attempt: 1, intended_at: t(from), begun: null, end: null, logs: [], failed: over.failed ?? null, rungs: (over.ticks ?? []).map((s, i) => ({ rung: i, at: t(s), climbed: true, says: '' })) }) as StepView['now']['acts'][number];

describe('when steps go', () => {
  const spans = new Spans([step(1, 'a/x', [], {}), step(4, 'a/y', [], {})]);
  spans.set(1, 10, 20);
  spans.set(4, 30, 90);

  it.each([
    [1, { from: 10, to: 20 }],
    [4, { from: 30, to: 90 }],
    [2, undefined],
    [77, undefined],
  ])('of step %i', (id, is) => {
    expect(spans.get(id)).toEqual(is);
  });

  it.each([
    [[], 5, 5],
    [[1], 5, 20],
    [[1, 4], 5, 90],
    [[2, 99], 5, 5],
    [[1], 50, 50],
  ])('after steps %j, from %i on: %i', (waits, began, after) => {
    expect(spans.afterAll(waits.map((s) => ({ step: s })), began)).toBe(after);
  });

  it('and when the last is over', () => {
    expect([spans.latest(0), spans.latest(200)]).toEqual([90, 200]);
  });
});

describe('the score', () => {
  it('puts what has not begun after what it waits for', () => {
    const view = run([step(1, 'a/db', [], { state: 'proving', began_at: t(0), acts: [act(0, { ticks: [1] })] } as never), step(2, 'a/app', [1], {})]);
    expect(forecast(view, at(2)).get(2)).toEqual({ from: at(4), to: at(8) });
  });

  it('draws a late step up to now, and what waits on it after that', () => {
    const view = run([step(1, 'a/db', [], { state: 'proving', began_at: t(0) } as never), step(2, 'a/app', [1], {})]);
    expect(forecast(view, at(9)).get(2)?.from).toBe(at(9));
  });

  it('draws every attempt, and says why the last failed', () => {
    const failed = step(1, 'a/gate', [], { state: 'failed', reason: 'forbidden line', began_at: t(0), attempts: 2, acts: [act(0, { failed: [t(1), 'x'] }), act(3, { failed: [t(4), 'x'] })] } as never);
    const lane = score(run([failed]), at(10)).lanes[0];
    expect(lane?.shapes.map((s) => s.kind)).toEqual(['act', 'fail', 'pause', 'act', 'fail']);
    expect(lane?.failed).toEqual({ at: at(4), says: '2 tries: forbidden line' });
  });

  it('keeps its layout while the steps are the same, and makes it anew once there are more', () => {
    const layout = new Layout();
    const [db, app] = [step(1, 'b/db', [], {}), step(2, 'a/app', [1], {})];
    const names = (view: RunView): string[] => score(view, at(2), undefined, layout).lanes.map((l) => l.address);
    expect(names(run([db, app]))).toEqual(['a/app', 'b/db']);
    const before = layout.lanes;
    // One went on: the lanes are the same, what is drawn in them is not.
    const begun = step(1, 'b/db', [], { state: 'ended', end: 'done', began_at: t(0), ended_at: t(1), acts: [act(0, {})] } as never);
    const drawn = score(run([begun, app]), at(2), undefined, layout);
    expect(layout.lanes).toBe(before);
    expect(drawn.lanes[1]?.shapes.map((s) => s.kind)).toEqual(['act']);
    expect(names(run([begun, app, step(3, 'a/aft', [1], {})]))).toEqual(['a/aft', 'a/app', 'b/db']);
  });

  it('draws only the lanes within, and lays out all', () => {
    const many = run(Array.from({ length: 300 }, (_, i) => step(i + 1, `a/s${String(i).padStart(3, '0')}`, i ? [i] : [], {})));
    const drawn = score(many, at(1), [10, 20]);
    expect(drawn.lanes).toHaveLength(300);
    expect(drawn.lanes.flatMap((l, i) => (l.shapes.length ? [i] : []))).toEqual([10, 11, 12, 13, 14, 15, 16, 17, 18, 19]);
  });

  it.each([
    ['in view', 3, 15],
    ['out of view', 250, 260],
  ])('knows of a failure %s', (_, from, to) => {
    const steps = Array.from({ length: 300 }, (_, i) => step(i + 1, `a/s${String(i).padStart(3, '0')}`, [], {}));
    expect(score(run(steps), at(1), [from, to]).failed).toBe(false);
    steps[7] = step(8, 'a/s007', [], { state: 'failed', reason: 'its port is held', began_at: t(0) } as never);
    const drawn = score(run(steps), at(1), [from, to]);
    expect(drawn.failed).toBe(true);
    expect(drawn.lanes[7]?.failed?.says ?? null).toBe(from < 8 ? 'its port is held' : null);
  });

  it('keeps the lanes that nobody sees as they are', () => {
    const layout = new Layout();
    const many = run(Array.from({ length: 300 }, (_, i) => step(i + 1, `a/s${String(i).padStart(3, '0')}`, [], {})));
    const [once, again] = [score(many, at(1), [0, 10], layout), score(many, at(2), [0, 10], layout)];
    expect(again.lanes[200]).toBe(once.lanes[200]);
    expect(again.lanes[5]).not.toBe(once.lanes[5]);
  });

  it('gives work a lane of its own above the services', () => {
    const work = step(2, 'x/y', [1], { state: 'ended', end: 'done', began_at: t(3), ended_at: t(5), acts: [act(3, {})] } as never);
    work.planned = { ...work.planned, kind: 'work', address: null };
    work.says = 'Patch';
    const drawn = score(run([step(1, 'a/db', [], { state: 'ended', end: 'done', began_at: t(0), ended_at: t(3), acts: [act(0, {})] } as never), work], t(5)), at(9));
    expect(drawn.lanes.map((l) => [l.host, l.name])).toEqual([['Between them', 'Patch'], ['a', 'db']]);
    expect(drawn.lanes[0]?.shapes.map((s) => s.kind)).toEqual(['act']);
  });

  it('draws a question as one, and not as a failure', () => {
    const asked = step(1, 'x/y', [], { state: 'asking', reason: 'Are the boats in?', answer: 'yes-no', began_at: t(1) } as never);
    asked.planned = { ...asked.planned, kind: 'question', address: null };
    const lane = score(run([asked]), at(4)).lanes[0];
    expect([lane?.failed, lane?.asked]).toEqual([null, at(4)]);
  });

  it('is all solid once the run has ended', () => {
    const view = run([step(1, 'a/db', [], { state: 'ended', end: 'done', began_at: t(0), ended_at: t(3), acts: [act(0, { ticks: [1, 2] })] } as never)], t(3));
    const drawn = score(view, at(99));
    expect(drawn.now).toBeNull();
    expect(drawn.lanes[0]?.shapes.map((s) => s.kind)).toEqual(['act', 'prove']);
  });
});
