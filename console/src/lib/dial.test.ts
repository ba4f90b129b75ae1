import { describe, expect, it } from 'vitest';

import { arc, arcs } from './dial';

/** The angles at which an arc begins and ends, clockwise from the top. */
function angles(d: string): [number, number] {
  const [, x1, y1, x2, y2] = /^M([\d.-]+) ([\d.-]+)A.* ([\d.-]+) ([\d.-]+)$/.exec(d)!.map(Number) as [number, number, number, number, number];
  const at = (x: number, y: number): number => (Math.atan2(x - 12, 12 - y) + 2 * Math.PI) % (2 * Math.PI);
  return [at(x1, y1), at(x2, y2)];
}

describe('the dial', () => {
  it.each([
    ['a quarter from the top', 0, Math.PI / 2, '12.00 4.00', '20.00 12.00'],
    ['a quarter from the right', Math.PI / 2, Math.PI, '20.00 12.00', '12.00 20.00'],
  ])('draws %s', (_, from, to, begins, ends) => {
    const d = arc(8, from, to);
    expect(d.startsWith(`M${begins}A8 8`)).toBe(true);
    expect(d.endsWith(ends)).toBe(true);
  });

  it.each([
    [0.1, 3, 0],
    [0.1, 3.3, 1],
  ])('takes the long way round where it is more than half: %d to %d', (from, to, long) => {
    expect(arc(8, from, to)).toContain(` 0 ${long} 1 `);
  });

  it.each([1, 2, 3, 5, 12, 40])('has an arc for each of %i rungs, one after another and apart', (rungs) => {
    const all = arcs(rungs).map(angles);
    expect(all).toHaveLength(rungs);
    if (rungs === 1) return;
    for (const [i, [from, to]] of all.entries()) {
      expect(to).toBeGreaterThan(from);
      expect(from).toBeGreaterThan(all[i - 1]?.[1] ?? 0);
    }
  });

  it('is a whole ring where there is no ladder', () => {
    expect(arcs(0)).toEqual(arcs(1));
  });
});
