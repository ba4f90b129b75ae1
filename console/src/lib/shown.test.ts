import { describe, expect, it } from 'vitest';

import type { BoardRow, SeenState, StepView } from './api';
import { NODE, place, reached } from './layout';
import { act, awaits, hue, rowHue, runHue, stepHue, stepWord, word } from './states';
import { age, clock, ms, roughly } from './time';

describe('times as people read them', () => {
  it.each([
    [0, 'now'],
    [999, 'now'],
    [1_000, '1 s'],
    [99_999, '99 s'],
    [100_000, '1 min'],
    [6_000_000, '1 h'],
    [-5_000, 'now'],
  ])('%i ms ago is %s', (ago, says) => {
    expect(age(1_000_000_000 - ago, 1_000_000_000)).toBe(says);
  });

  it.each([
    [0, 'a moment'],
    [1_001, '2 s'],
    [100_000, '2 min'],
    [7_200_000, '2.0 h'],
  ])('%i ms takes %s', (length, says) => {
    expect(roughly(length)).toBe(says);
  });

  it('tells the time of day with both figures', () => {
    expect(clock(new Date(2026, 10, 23, 2, 4, 9).getTime())).toBe('02:04:09');
    expect(ms('2026-11-23T02:04:09Z') - ms('2026-11-23T02:04:08.5Z')).toBe(500);
  });
});

const seen = (state: SeenState): BoardRow['seen'] => ({ state, as_of: '', since: '', rungs_climbed: 0, rungs: 2, rung_against: null, says: '', pid: null, log_against: null });

describe('states', () => {
  it('gives every seen state a hue, and alarms only where something is amiss', () => {
    expect(hue('proven')).toBe('proven');
    expect(hue('down')).toBe('rest');
    expect(hue('down', true)).toBe('alarm');
    expect(hue('out-of-reach')).toBe('unreach');
    expect(word('out-of-reach')).toBe('out of reach');
  });

  it.each([
    [{ seen: seen('down'), differs: true, in_run: 3, failed_in_run: null }, 'moving'],
    [{ seen: seen('down'), differs: true, in_run: null, failed_in_run: null }, 'alarm'],
    [{ seen: seen('down'), differs: false, in_run: null, failed_in_run: null }, 'rest'],
    [{ seen: seen('proven'), differs: false, in_run: 3, failed_in_run: 'not proven within 5s' }, 'alarm'],
    [{ seen: seen('ailing'), differs: true, in_run: null, failed_in_run: null }, 'ailing'],
  ])('%# a row on the board', (row, is) => {
    expect(rowHue(row)).toBe(is);
  });

  it.each([
    ['running', 'moving'],
    ['held', 'alarm'],
    ['given-up', 'alarm'],
    ['finished', 'proven'],
    ['finished-with-exceptions', 'ailing'],
    ['queued', 'rest'],
  ])('a run that is %s', (state, is) => {
    expect(runHue(state)).toBe(is);
  });

  const now = (more: object): StepView['now'] => ({ attempts: 0, began_at: null, ended_at: null, acts: [], rungs: [], ...more }) as unknown as StepView['now'];

  it.each([
    [now({ state: 'ended', end: 'done' }), 'done', 'proven', false],
    [now({ state: 'ended', end: 'passed-over', by: '', why: '' }), 'passed over', 'ailing', false],
    [now({ state: 'proving' }), 'proving', 'moving', false],
    [now({ state: 'failed', reason: 'x' }), 'failed', 'alarm', true],
    [now({ state: 'outcome-unknown', reason: 'x' }), 'outcome unknown', 'alarm', true],
    [now({ state: 'asking', reason: 'x' }), 'asking', 'alarm', true],
    [now({ state: 'waiting' }), 'waiting', 'rest', false],
  ])('%# a step', (step, says, is, waits) => {
    expect([stepWord(step), stepHue(step), awaits(step)]).toEqual([says, is, waits]);
  });

  it('calls a step that waits for something by what it does', () => {
    expect([act('await'), act('restart')]).toEqual(['wait for', 'restart']);
  });
});

const row = (address: string, relies_on: string[]): BoardRow => ({ address, relies_on }) as unknown as BoardRow;
const ferries = [row('h/web', ['h/booking']), row('h/booking', ['h/fares']), row('h/fares', ['h/db']), row('h/db', []), row('h/boards', ['h/db', 'elsewhere/gone'])];

describe('the map', () => {
  it('puts what is relied on to the left of what relies on it', () => {
    const placed = place(ferries);
    const x = Object.fromEntries(placed.nodes.map((n) => [n.address, n.x]));
    expect(x['h/db']).toBeLessThan(x['h/fares'] ?? 0);
    expect(x['h/fares']).toBeLessThan(x['h/booking'] ?? 0);
    expect(x['h/booking']).toBeLessThan(x['h/web'] ?? 0);
    expect(x['h/db']).toBeLessThan(x['h/boards'] ?? 0);
  });

  it('draws a line for each relation it knows both ends of, and lets no two services overlap', () => {
    const placed = place(ferries);
    expect(placed.edges.map((e) => `${e.from}>${e.to}`).sort()).toEqual(['h/booking>h/web', 'h/db>h/boards', 'h/db>h/fares', 'h/fares>h/booking']);
    for (const edge of placed.edges) expect(edge.d).toMatch(/^M[\d. -]+C/);
    for (const [i, a] of placed.nodes.entries()) {
      for (const b of placed.nodes.slice(i + 1)) {
        expect(Math.abs(a.x - b.x) >= NODE.width || Math.abs(a.y - b.y) >= NODE.height).toBe(true);
      }
    }
  });

  it('reaches everything along relations, either way', () => {
    expect([...reached(ferries, 'h/booking', 'needed')].sort()).toEqual(['h/db', 'h/fares']);
    expect([...reached(ferries, 'h/db', 'reliant')].sort()).toEqual(['h/boards', 'h/booking', 'h/fares', 'h/web']);
    expect(reached(ferries, 'h/nobody', 'needed').size).toBe(0);
  });

  it('is empty where there is nothing', () => {
    expect(place([]).nodes).toEqual([]);
  });
});
