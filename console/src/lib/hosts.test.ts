import { describe, expect, it } from 'vitest';

import type { BoardRow, HostRow, SeenState } from './api';
import { gathered, hostState, roundTrip, stands } from './hosts';

const row = (address: string, state: SeenState, differs = false): BoardRow =>
  ({ address, differs, seen: { state, rungs: 3, rungs_climbed: 0 }, in_run: null, failed_in_run: null }) as unknown as BoardRow;
const host = (more: Partial<HostRow>): HostRow => ({ name: 'quay-1', address: '10.0.0.1', reach: 'ssh', ...more }) as HostRow;
const link = (up: boolean): HostRow['link'] => ({ up, since: '', tries: 0 }) as HostRow['link'];

describe('how hosts stand', () => {
  it.each([
    [host({}), row('quay-1/host', 'down'), 'off', 'rest'],
    [host({}), row('quay-1/host', 'down', true), 'off', 'alarm'],
    [host({}), row('quay-1/host', 'proven'), 'on', 'proven'],
    [host({ link: link(true) }), undefined, 'reached', 'proven'],
    [host({ link: link(false) }), undefined, 'out of reach', 'unreach'],
    [host({ reach: 'here' }), undefined, 'this machine', 'proven'],
    [host({ reach: 'simulated' }), undefined, 'simulated', 'rest'],
  ])('%# is told by itself, or else by its link', (of, itself, says, hue) => {
    expect(stands(of, itself)).toEqual({ word: says, hue });
  });

  it('tells what runs there, the worst first', () => {
    const rows = [row('a/x', 'proven'), row('a/y', 'down'), row('a/z', 'down', true), row('a/w', 'proven')];
    expect(gathered(rows).map((g) => [g.n, g.word, g.hue])).toEqual([[1, 'down', 'alarm'], [2, 'proven', 'proven'], [1, 'down', 'rest']]);
  });

  it('has words of its own', () => {
    expect(['proven', 'down', 'rising', 'out-of-reach'].map(hostState)).toEqual(['on', 'off', 'coming up', 'out of reach']);
    expect([180, 1500, 42_000].map(roundTrip)).toEqual(['180 µs', '1.5 ms', '42 ms']);
  });
});
