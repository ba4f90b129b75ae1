import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest';
import { Paced } from './paced';

describe('calls that may take long', () => {
  beforeEach(() => void vi.useFakeTimers());
  afterEach(() => void vi.useRealTimers());

  /** A call that takes so long, and how many of them were under way at most. */
  function slow(takesMs: number): { call: () => Promise<void>; made: () => number; most: () => number } {
    let [made, under, most] = [0, 0, 0];
    const call = async (): Promise<void> => {
      made += 1;
      under += 1;
      most = Math.max(most, under);
      await new Promise((done) => setTimeout(done, takesMs));
      under -= 1;
    };
    return { call, made: () => made, most: () => most };
  }

  it('many wishes at once are one call', async () => {
    const of = slow(10);
    const paced = new Paced(of.call, 80);
    for (let i = 0; i < 50; i += 1) paced.soon();
    await vi.advanceTimersByTimeAsync(1);
    expect(of.made()).toBe(1);
    await vi.advanceTimersByTimeAsync(1000);
    expect(of.made()).toBe(1);
  });

  it('the first is made at once, the next after the pause', async () => {
    const of = slow(10);
    const paced = new Paced(of.call, 80);
    paced.soon();
    await vi.advanceTimersByTimeAsync(20);
    paced.soon();
    await vi.advanceTimersByTimeAsync(50);
    expect(of.made()).toBe(1);
    await vi.advanceTimersByTimeAsync(40);
    expect(of.made()).toBe(2);
  });

  it('a wish during a call is one call more, never beside it, and no sooner than the last one took', async () => {
    const of = slow(500);
    const paced = new Paced(of.call, 80);
    paced.soon();
    for (let at = 0; at < 2000; at += 20) {
      await vi.advanceTimersByTimeAsync(20);
      paced.soon();
    }
    expect(of.most()).toBe(1);
    // At 0, 1000 and 2000 ms: each takes half a second, and as long lies between them.
    expect([2, 3]).toContain(of.made());
  });

  it('goes on after a call that failed', async () => {
    let made = 0;
    const paced = new Paced(async () => {
      made += 1;
      await Promise.reject(new Error('refused')).catch(() => undefined);
    }, 10);
    paced.soon();
    await vi.advanceTimersByTimeAsync(20);
    paced.soon();
    await vi.advanceTimersByTimeAsync(20);
    expect(made).toBe(2);
  });

  it('what was stopped is not called', async () => {
    const of = slow(10);
    const paced = new Paced(of.call, 80);
    paced.soon();
    paced.stop();
    await vi.advanceTimersByTimeAsync(500);
    expect(of.made()).toBe(0);
    paced.soon();
    await vi.advanceTimersByTimeAsync(100);
    expect(of.made()).toBe(1);
  });
});
