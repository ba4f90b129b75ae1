import { describe, expect, it } from 'vitest';

import { deed, isHost, isPower, wishOf } from './deeds';
import type { Wish } from './api';

describe('what is done is called by what it is done to', () => {
  it.each([
    ['quay-1/host', true, true],
    ['quay-1/outlet', false, true],
    ['quay-1/fares-db', false, false],
    // A service may be called much like a host.
    ['quay-1/ghost', false, false],
    ['host/fares', false, false],
  ])('%s', (address, host, power) => {
    expect([isHost(address), isPower(address)]).toEqual([host, power]);
  });

  it.each([
    ['start', 'quay-1/host', 'power on'],
    ['stop', 'quay-1/host', 'shut down'],
    ['restart', 'quay-1/host', 'reboot'],
    ['power-cycle', 'quay-1/host', 'power-cycle'],
    ['start', 'quay-1/outlet', 'switch on'],
    ['stop', 'quay-1/outlet', 'switch off'],
    ['restart', 'quay-1/outlet', 'restart'],
    ['stop', 'quay-1/fares-db', 'stop'],
    ['bring-to-expected', 'quay-1/fares-db', 'bring to expected'],
    ['bring-to-expected', 'quay-1/host', 'bring to expected'],
    ['restart', null, 'restart'],
  ])('%s of %s is %s', (kind, address, says) => {
    expect(deed(kind, address)).toBe(says);
  });

  it.each([
    ['stop', ['quay-1/host', 'quay-2/host'], 'shut down'],
    ['stop', ['quay-1/host', 'quay-2/fares'], 'stop'],
    ['restart', ['quay-1/host'], 'reboot'],
    ['restart', [], 'restart'],
  ])('%s of %j is %s', (wish, of, says) => {
    expect(wishOf(wish as Wish, of)).toBe(says);
  });
});
