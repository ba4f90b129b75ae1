import { describe, expect, it } from 'vitest';

import { DEEDS, applied, headLines, heads, readAs, shownAs, stepSays, type Edit, type Kind, type Written } from './step-keys';

const written: Written = { title: 'Night', steps: [{ stop: ['a'] }, { work: ['bin/x', '1'] }, { start: ['a'] }] };
const after = (...edits: Edit[]): Written => edits.reduce(applied, written);
const does = (w: Written): string[] => (w.steps ?? []).map((s) => Object.keys(s)[0] ?? '');

describe('what is written, changed', () => {
  it.each<[string, Edit[], string[]]>([
    ['moved down', [{ edit: 'move', line: 1, to: 3 }], ['work', 'start', 'stop']],
    ['moved up', [{ edit: 'move', line: 3, to: 1 }], ['start', 'stop', 'work']],
    ['taken out', [{ edit: 'remove', line: 2 }], ['stop', 'start']],
    ['put in', [{ edit: 'insert', line: 2, step: { pause: '5s' } }], ['stop', 'pause', 'work', 'start']],
    ['put last', [{ edit: 'insert', line: 4, step: { pause: '5s' } }], ['stop', 'work', 'start', 'pause']],
  ])('steps are %s', (_, edits, wanted) => {
    expect(does(after(...edits))).toEqual(wanted);
    expect(does(written)).toEqual(['stop', 'work', 'start']);
  });
  it('keys are set, and taken out by what means nothing', () => {
    const set = after({ edit: 'change', line: 1, set: { patience: '9s', alone: true } });
    expect(set.steps?.[0]).toEqual({ stop: ['a'], patience: '9s', alone: true });
    expect(applied(set, { edit: 'change', line: 1, set: { patience: '', alone: false } }).steps?.[0]).toEqual({ stop: ['a'] });
    expect(after({ edit: 'head', set: { purpose: 'Sleep', title: null } })).toEqual({ purpose: 'Sleep', steps: written.steps });
  });
  it('questions are asked, changed and asked no longer', () => {
    const asked = after({ edit: 'ask', name: 'package', set: { asks: 'Which?' } }, { edit: 'ask', name: 'package', set: { kind: 'number' } });
    expect(asked.questions).toEqual({ package: { asks: 'Which?', kind: 'number' } });
    expect(applied(asked, { edit: 'ask', name: 'package', set: null }).questions).toEqual({});
  });
});

describe('steps', () => {
  it.each([
    [{ stop: ['a', 'group:b'] }, 'stop a group:b'],
    [{ stop: ['a'], title: 'Gates down' }, 'Gates down'],
    [{ act: 'drain', of: ['queue'] }, 'drain queue'],
    [{ bring_back: ['all'] }, 'bring back as found'],
    [{ question: { asks: 'Go on?' } }, 'Go on?'],
    [{ look: { rung: 'file', path: '/x' } }, 'look file /x'],
    [{ script: 'one\ntwo' }, 'script one'],
    [{}, 'nothing yet'],
  ])('say what they do: %o', (step, says) => expect(stepSays(step)).toBe(says));
  it('have words for each thing they can do', () => {
    for (const [key, deed] of Object.entries(DEEDS)) expect(stepSays({ [key]: deed.begin, of: ['a'] })).not.toBe('');
  });
});

describe('fields', () => {
  it.each<[Kind, unknown, string]>([
    ['words', ['a', 'b'], 'a b'],
    ['lines', ['bin/x', 'a b'], 'bin/x\na b'],
    ['numbers', [0, 3], '0 3'],
    ['number', 7, '7'],
    ['pairs', { A: '1', B: 'x=y' }, 'A=1\nB=x=y'],
    ['text', '30s', '30s'],
  ])('%s: are shown as text and read back', (kind, value, text) => {
    expect(shownAs(kind, value)).toBe(text);
    expect(readAs(kind, text)).toEqual(value);
  });
  it('hand on what is no number, to be told where it is written', () => expect(readAs('number', 'many')).toBe('many'));
});

describe('heads of steps', () => {
  const text = '[procedure.n]\ntitle = "x"\n\n[[procedure.n.steps]]\nstop = ["a"]\n\n[[ procedure . n . steps ]]\nstart = ["a"]\n# [[procedure.n.steps]]\n';
  it('are found by place and by line', () => {
    expect(heads(text)).toHaveLength(2);
    expect(headLines(text)).toEqual([4, 7]);
  });
});
