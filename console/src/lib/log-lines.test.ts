import { describe, expect, it } from 'vitest';

import { matches, next, pieces, shown, type LogLine } from './log-lines';

const line = (text: string, more: Partial<LogLine> = {}): LogLine => ({ address: 'quay/db', source: 'db.log', text, unreadable: false, ...more });
const act = line('start · run 7, step 2, by maren', { act: { run: 7, step: 2, at: '2026-11-23T02:40:00Z' } });
const lines = [line('one'), act, line('Ready for work'), line('two'), line('ready again')];

describe('followed log lines', () => {
  it('match whatever the case, by address too, and never for nothing', () => {
    expect(lines.filter((l) => matches(l, 'READY')).map((l) => l.text)).toEqual(['Ready for work', 'ready again']);
    expect(matches(line('x'), 'quay/')).toBe(true);
    expect(matches(line('x'), '')).toBe(false);
  });
  it('keep acts in view where only what matches is shown', () => {
    expect(shown(lines, 'ready', true)).toHaveLength(3);
    expect(shown(lines, 'ready', false)).toHaveLength(5);
    expect(shown(lines, '', true)).toHaveLength(5);
  });
  it.each([
    ['ready, Ready', 'ready', ['ready', 'Ready']],
    ['no such', 'ready', []],
    ['a.c', '.', ['.']],
    ['İstanbul', 'i', []],
  ])('are cut where they match: %s', (text, search, hits) => {
    const cut = pieces(text, search);
    expect(cut.map((p) => p.text).join('')).toBe(text);
    expect(cut.filter((p) => p.hit).map((p) => p.text)).toEqual(hits);
  });
  it('are jumped between, and stay where there is no further', () => {
    const isAct = (l: LogLine): boolean => !!l.act;
    expect(next(lines, 4, false, isAct)).toBe(1);
    expect(next(lines, 1, false, isAct)).toBe(1);
    expect(next(lines, 0, true, (l) => matches(l, 'ready'))).toBe(2);
  });
});
