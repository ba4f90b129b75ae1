import { describe, expect, it } from 'vitest';

import type { BoardRow, BoardView } from './api';
import { renewed, seenAt } from './board';
import { endsOf, rowsInView } from './windowed';

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
});

describe('long lists', () => {
  const ends = endsOf(Array.from({ length: 10_000 }, (_, i) => (i % 6 === 0 ? 31 : 32)));

  it.each([
    [0, [0, 40]],
    [32_000, [989, 1042]],
    [1e9, [9986, 10_000]],
  ])('scrolled to %i draw what is in view', (top, [from, to]) => {
    const [first, last] = rowsInView(ends, { top, height: 800 });
    expect(first).toBeGreaterThanOrEqual(Math.min(from!, 9986) - 20);
    expect(last - first).toBeLessThan(60);
    expect(ends[first] ?? 0).toBeLessThanOrEqual(Math.max(top, ends[0]!) + 1);
    expect(last).toBeLessThanOrEqual(to! + 20);
  });

  it('of no rows draw none', () => {
    expect(rowsInView(endsOf([]), { top: 100, height: 800 })).toEqual([0, 0]);
  });
});
