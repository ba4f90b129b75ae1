import { describe, expect, it } from 'vitest';

import type { Rehearsal } from './api';
import { ghosts } from './ghost';

interface Planned {
  id: number;
  kind: string;
  address: string | null;
  settings?: { title?: string };
  task?: { kind: string; says?: string };
}

const times = (begins_ms: number, ends_ms: number, late_ms: number, critical = 0): object => ({ begins_ms, ends_ms, late_ms, critical });
const rehearsal = (steps: Planned[], forecast: object[], late_ms = 9_000): Rehearsal => ({ plan: { sequence: { steps } }, forecast: { steps: forecast, late_ms } }) as unknown as Rehearsal;

describe('the score of a rehearsal', () => {
  const steps: Planned[] = [
    { id: 1, kind: 'stop', address: 'quay-1/fares' },
    { id: 2, kind: 'work', address: null, settings: { title: 'Patch' } },
    { id: 3, kind: 'start', address: 'quay-1/fares' },
    { id: 4, kind: 'announce', address: null, task: { kind: 'announce', says: 'All is well' } },
    { id: 5, kind: 'until-time', address: null },
  ];
  const played = rehearsal(steps, [times(0, 1_000, 1_500, 90), times(1_000, 2_000, 4_000, 50), times(2_000, 5_000, 8_000, 49), times(5_000, 5_000, 8_000), times(5_000, 6_000, 9_000)]);

  it('has a lane for each service and for all that is none, in the order in which they are needed', () => {
    expect(ghosts(played).lanes.map((l) => [l.name, l.isService, l.steps])).toEqual([
      ['quay-1/fares', true, [1, 3]],
      ['Patch', false, [2]],
      ['All is well', false, [4]],
      ['until time', false, [5]],
    ]);
  });

  it('has bars from begin to end, and to where nine in ten have ended', () => {
    const [fares] = ghosts(played).lanes;
    expect(fares?.bars.map((b) => [b.from, b.to, b.late])).toEqual([
      [0, 1_000, 1_500],
      [2_000, 5_000, 8_000],
    ]);
  });

  it('marks what the length hangs on in half of all plays', () => {
    expect(ghosts(played).lanes.flatMap((l) => l.bars.filter((b) => b.critical).map((b) => b.step))).toEqual([1, 2]);
  });

  it.each([
    [9_000, 9_000],
    [0, 1_000],
  ])('is as long as nine in ten plays, and no shorter than a second: %i', (late, to) => {
    expect(ghosts(rehearsal(steps, [], late))).toEqual({ lanes: [], to });
  });
});
