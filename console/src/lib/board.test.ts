import { describe, expect, it } from 'vitest';

import type { BoardRow, BoardView } from './api';
import { isFound, renewed, seenAt } from './board';
import { windowOf } from './windowed';

const row = (address: string, state: string, as_of = '2026-11-25T02:00:00Z'): BoardRow => ({ address, seen: { state, as_of } }) as unknown as BoardRow;
const board = (services: BoardRow[], whole: boolean, version: number): BoardView => ({ services, hosts: [], whole, version }) as unknown as BoardView;

describe('the board, told by what is new', () => {
  const known = board([row('a/x', 'proven'), row('a/y', 'proven'), row('b/z', 'down')], true, 7);

  it('takes what is new in, in its place', () => {
    const now = renewed(known, board([row('a/y', 'sinking')], false, 8));
    expect(now.services.map((r) => `${r.address} ${r.seen.state}`)).toEqual(['a/x proven', 'a/y sinking', 'b/z down']);
    expect(now.version).toBe(8);
  });

  it('keeps the very rows that did not change, so that nothing is drawn anew', () => {
    expect(renewed(known, board([], false, 7)).services).toBe(known.services);
  });

  it('is replaced by a whole one', () => {
    expect(renewed(known, board([row('c/w', 'down')], true, 9)).services.map((r) => r.address)).toEqual(['c/w']);
    expect(renewed(null, board([row('c/w', 'down')], false, 9)).services).toHaveLength(1);
  });

  it.each([
    [row('a/x', 'proven'), 5000],
    [row('a/x', 'out-of-reach'), 0],
    [{ ...row('a/x', 'out-of-reach'), seen: { ...row('a/x', 'out-of-reach').seen, last_known: { at: '2026-11-25T01:59:59Z', state: 'proven' } } } as BoardRow, -1000],
  ])('%# knows how old a row is', (of, after) => {
    const at = Date.parse('2026-11-25T02:00:00Z');
    expect(seenAt(of, at + 5000) - at).toBe(after);
  });

  it('takes no row for as new as the round that did not look at it', () => {
    const at = Date.parse('2026-11-25T02:00:00Z');
    expect(seenAt(row('a/x', 'proven'), at + 5000, { 'a/x': '2026-11-25T01:59:30Z' }) - at).toBe(-30_000);
    expect(seenAt(row('a/y', 'proven'), at + 5000, { 'a/x': '2026-11-25T01:59:30Z' }) - at).toBe(5000);
  });
});

describe('what is found on the board', () => {
  const gate = { ...row('quay-0001/gate', 'proven'), title: 'The Gate of Pier 2' } as BoardRow;

  it.each([
    ['quay-0001/ga', true],
    ['gate of pier', true],
    ['pier 3', false],
    ['/gate the', false],
  ])('by %j: %s', (wanted, found) => {
    expect(isFound(gate, wanted)).toBe(found);
    expect(isFound(gate, wanted)).toBe(found);
  });
});

describe('long lists', () => {
  const [HEAD, ROW, VIEW] = [31, 32, 800];
  const sections = Array.from({ length: 2000 }, (_, i) => i % 7);
  const whole = windowOf(sections, HEAD, ROW, null);
  const total = sections.reduce((sum, n) => sum + HEAD + n * ROW, 0);
  const height = (lines: [number, number | null][]): number => lines.reduce((sum, [, i]) => sum + (i === null ? HEAD : ROW), 0);

  it('are drawn whole where nothing says what is in view', () => {
    expect(whole.lines).toHaveLength(sections.reduce((sum, n) => sum + 1 + n, 0));
    expect([whole.above, whole.below, height(whole.lines)]).toEqual([0, 0, total]);
  });

  it.each([0, 1, 30, 31, 32, 63, 5_000, 77_777, 150_000, total - VIEW, total - 1])('scrolled to %i draw what is in view and little more', (top) => {
    const { lines, above, below } = windowOf(sections, HEAD, ROW, { top, height: VIEW });
    expect(above + height(lines) + below).toBe(total);
    expect(above).toBeLessThanOrEqual(top);
    expect(above + height(lines)).toBeGreaterThanOrEqual(Math.min(top + VIEW, total));
    expect(height(lines)).toBeLessThan(VIEW + 32 * ROW);
    // They are the same lines as in the whole list, at the same height.
    const first = whole.lines.findIndex(([s, i]) => s === lines[0]![0] && i === lines[0]![1]);
    expect(whole.lines.slice(first, first + lines.length)).toEqual(lines);
    expect(height(whole.lines.slice(0, first))).toBe(above);
  });

  it.each([
    [[], 0, 0],
    [[3], 5_000, 127],
  ])('of %j scrolled past their end draw nothing', (rows, top, above) => {
    expect(windowOf(rows, HEAD, ROW, { top, height: VIEW })).toEqual({ lines: [], above, below: 0 });
  });
});
