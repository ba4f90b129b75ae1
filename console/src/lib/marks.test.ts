import { describe, expect, it } from 'vitest';

import { arcs } from './dial';
import { hue, rowHue, runHue, stepWord, word } from './states';
import { age, roughly } from './time';

describe('marks and words', () => {
  it('cuts the ring into as many arcs as there are rungs', () => {
    expect([0, 1, 3, 24].map((n) => arcs(n).length)).toEqual([1, 1, 3, 24]);
  });
  it('writes states with their spaces', () => {
    expect([word('out-of-reach'), word('finished-with-exceptions')]).toEqual(['out of reach', 'finished with exceptions']);
  });
  it('alarms for what is down only where it should be up', () => {
    expect([hue('down', true), hue('down', false)]).toEqual(['alarm', 'rest']);
  });
  it('never draws out of reach, unknown and down alike where it matters', () => {
    expect(new Set([hue('out-of-reach'), hue('down', true), hue('proven')]).size).toBe(3);
  });
  it('alarms for what a run took down only where it failed to bring it back', () => {
    const row = { seen: { state: 'down' }, differs: true, in_run: 2, failed_in_run: null } as never;
    expect([rowHue(row), rowHue({ ...(row as object), failed_in_run: 'exit 1' } as never)]).toEqual(['moving', 'alarm']);
  });
  it('tells an ended step by how it ended', () => {
    expect(stepWord({ state: 'ended', end: 'passed-over', by: 'maren', why: 'x' } as never)).toBe('passed over');
  });
  it('knows runs by their word or their name', () => {
    expect([runHue('held'), runHue('finished-with-exceptions'), runHue('finished with exceptions')]).toEqual(['alarm', 'ailing', 'ailing']);
  });
  it('says ages and lengths in short', () => {
    expect([age(0, 400), age(0, 61_000), age(0, 600_000)]).toEqual(['now', '61 s', '10 min']);
    expect([roughly(300), roughly(8200), roughly(150_000)]).toEqual(['a moment', '9 s', '3 min']);
  });
});
