/** What steps, questions and rungs say, key by key: for forms, and for changing them in place. Pure. */
import type { Schemas } from './api';

export type Written = { title?: string; purpose?: string; if_it_fails?: unknown; questions?: Record<string, Keys>; steps?: Keys[] };
/** What is written: only the keys that are. */
export type Keys = Record<string, unknown>;
export type Edit = Schemas['Edit'];

export type Kind = 'text' | 'long' | 'words' | 'lines' | 'pairs' | 'number' | 'numbers' | 'flag' | 'choice' | 'rule' | 'rung' | 'rungs' | 'keys';
export interface Field {
  key: string;
  label: string;
  kind: Kind;
  hint?: string;
  choices?: [string, string][];
  fields?: Field[];
}

const f = (key: string, label: string, kind: Kind = 'text', more: Partial<Field> = {}): Field => ({ key, label, kind, ...more });

const WHERE: Field[] = [f('on', 'On host'), f('dir', 'In folder'), f('user', 'As account')];
const SERVICES: Field[] = [
  f('except', 'Leave out', 'words'),
  f('alone', 'Only these', 'flag', { hint: 'without what relies on them or what they need' }),
  f('below_keep_up', 'Groups that may fall below what they keep up', 'words'),
  f('left_standing', 'Services that may stand on what is not proven', 'words'),
];
const NAMED = 'addresses, names, globs, group:, host:';
const WORK: Field[] = [
  ...WHERE,
  f('env', 'Environment', 'pairs', { hint: 'NAME=VALUE, one a line' }),
  f('accept_exits', 'Exit codes that are fine', 'numbers', { hint: '0' }),
  f('keep', 'Pieces of its output to keep', 'pairs', { hint: 'name=pattern, one a line' }),
  f('changes_nothing', 'Changes nothing', 'flag', { hint: 'needs no way back' }),
  f('while_down', 'What must be down meanwhile', 'words', { hint: NAMED }),
  f('while_up', 'What must be up meanwhile', 'words', { hint: NAMED }),
  f('counter', 'The way back', 'keys', {
    fields: [f('title', 'Title'), f('work', 'Program and arguments, one a line', 'lines'), f('script', 'or a script', 'long'), f('patience', 'Patience')],
  }),
];
const HOSTS = 'names of hosts, or *';

/** What a step can do: its key, its name in menus, and what can be said about it. */
export const DEEDS: Record<string, { name: string; short: string; is: Field; more: Field[]; begin: unknown }> = {
  stop: { name: 'Stop', short: 'stop', is: f('stop', 'Stop', 'words', { hint: NAMED }), more: SERVICES, begin: [] },
  start: { name: 'Start', short: 'start', is: f('start', 'Start', 'words', { hint: NAMED }), more: SERVICES, begin: [] },
  restart: { name: 'Restart', short: 'restart', is: f('restart', 'Restart', 'words', { hint: NAMED }), more: SERVICES, begin: [] },
  reload: { name: 'Reload', short: 'reload', is: f('reload', 'Reload', 'words', { hint: NAMED }), more: SERVICES, begin: [] },
  shut_down: { name: 'Shut hosts down', short: 'shut down', is: f('shut_down', 'Hosts', 'words', { hint: HOSTS }), more: SERVICES, begin: [] },
  power_on: { name: 'Power hosts on', short: 'power on', is: f('power_on', 'Hosts', 'words', { hint: HOSTS }), more: SERVICES, begin: [] },
  reboot: { name: 'Reboot hosts', short: 'reboot', is: f('reboot', 'Hosts', 'words', { hint: HOSTS }), more: SERVICES, begin: [] },
  power_cycle: { name: 'Power-cycle hosts', short: 'power-cycle', is: f('power_cycle', 'Hosts', 'words', { hint: HOSTS }), more: SERVICES, begin: [] },
  bring_back: { name: 'Bring back as found', short: 'bring back', is: f('bring_back', 'What these steps took down', 'words', { hint: 'names of steps, or all' }), more: [], begin: ['all'] },
  act: { name: 'Further act', short: 'act', is: f('act', 'Act'), more: [f('of', 'Of', 'words', { hint: NAMED })], begin: 'drain' },
  work: { name: 'Work', short: 'work', is: f('work', 'Program and arguments, one a line', 'lines'), more: WORK, begin: ['/bin/true'] },
  script: { name: 'Script', short: 'script', is: f('script', 'Lines for /bin/sh', 'long', { hint: 'values reach it as $VALUE_NAME' }), more: WORK, begin: 'true' },
  pause: { name: 'Pause', short: 'pause', is: f('pause', 'For', 'text', { hint: '30s, 2m' }), more: [], begin: '10s' },
  until: { name: 'Wait until it holds', short: 'wait', is: f('until', 'Until', 'rungs'), more: WHERE.slice(0, 1), begin: [{ rung: 'file', path: '/tmp/ready' }] },
  until_time: { name: 'Wait for a time', short: 'wait', is: f('until_time', 'Until', 'text', { hint: '02:30' }), more: [], begin: '02:30' },
  question: {
    name: 'Question', short: 'ask',
    is: f('question', 'Ask a person', 'keys', {
      fields: [
        f('asks', 'The question'),
        f('look_at', 'What to look at first'),
        f('who', 'Who may answer', 'words', { hint: 'nobody named: anyone' }),
        f('kind', 'The answer is', 'choice', { choices: [['', 'yes or no'], ['value', 'a value, kept under the step’s name']] }),
        f('limit', 'Waited for', 'text', { hint: 'without end' }),
        f('unanswered', 'Unanswered, it is', 'choice', { choices: [['', 'failed'], ['yes', 'yes'], ['no', 'no']] }),
      ],
    }),
    more: [],
    begin: { asks: 'Go on?' },
  },
  look: { name: 'Look', short: 'look', is: f('look', 'Prove that', 'rung'), more: [f('preflight', 'Before the first act', 'flag', { hint: 'refuses the whole procedure' }), ...WHERE.slice(0, 1)], begin: { rung: 'file', path: '/tmp/ready' } },
  announce: { name: 'Announce', short: 'tell', is: f('announce', 'Tell people', 'long'), more: [f('to', 'A page that takes CloudEvents')], begin: 'Done.' },
};

/** What every step can say besides. */
export const COMMON: Field[] = [
  f('if_it_fails', 'If it fails', 'rule'),
  f('patience', 'Patience', 'text', { hint: 'its service’s own' }),
  f('attempts', 'Attempts', 'number', { hint: '1' }),
  f('gap', 'Gap between attempts'),
  f('pause_before', 'Pause before'),
  f('pause_after', 'Pause after'),
  f('usually', 'Usually takes', 'text', { hint: 'while there is no history' }),
  f('alongside', 'Alongside', 'flag', { hint: 'begins together with the step before it' }),
  f('name', 'Name', 'text', { hint: 'what later steps call it' }),
];

const AFTER = f('gone_after_stop', 'Gone after a stop', 'flag');
/** What each kind of rung looks at. */
export const RUNGS: Record<string, Field[]> = {
  file: [f('path', 'File'), f('newer_than', 'Written within', 'text', { hint: '24h' }), f('at_least', 'Bytes at least', 'number')],
  port: [f('port', 'Port', 'number'), f('on', 'Local address'), f('held_by_any', 'Held by any program', 'flag')],
  connect: [f('port', 'Port', 'number'), f('to', 'Address')],
  web: [f('url', 'Page'), f('status', 'Statuses', 'numbers', { hint: '200 to 299' }), f('contains', 'Has the text'), f('pointer', 'JSON pointer'), f('equals', 'Equals'), f('not_yet', 'Still starting while it says'), f('within', 'Within')],
  command: [f('command', 'Program and arguments, one a line', 'lines'), f('holds', 'Exit codes that hold', 'numbers', { hint: '0' }), f('not_yet', 'Exit codes for not yet', 'numbers', { hint: '1' }), f('within', 'Within')],
  ping: [f('to', 'Address')],
  mount: [f('path', 'Mount point'), AFTER],
  room: [f('path', 'A path on it'), f('bytes', 'Bytes free', 'number')],
  account: [f('account', 'Account')],
  owner: [f('path', 'File or folder'), f('account', 'Account')],
  'port-free': [f('port', 'Port', 'number'), f('on', 'Local address')],
  program: [f('program', 'Program')],
};

/** What a question that is asked before it begins can say. */
export const QUESTION: Field[] = [
  f('asks', 'The question'),
  f('kind', 'The answer is', 'choice', {
    choices: [['', 'text'], ['number', 'a number'], ['choice', 'one of these'], ['address', 'a service'], ['selection', 'services'], ['secret', 'a reference to a secret']],
  }),
  f('default', 'Unless answered'),
  f('allowed', 'Allowed', 'text', { hint: 'a pattern' }),
  f('choices', 'To choose from', 'lines', { hint: 'one a line' }),
  f('at_least', 'At least', 'number'),
  f('at_most', 'At most', 'number'),
];

export const HEAD: Field[] = [f('title', 'Title'), f('purpose', 'Purpose', 'long'), f('if_it_fails', 'If a step fails', 'rule'), f('held_at_most', 'Put back once held for', 'text', { hint: 'never' })];

/** What a step does, by its key. */
export const deedOf = (step: Keys): string | undefined => Object.keys(DEEDS).find((d) => d in step);

/** What a step does, in a few words, from what is written. */
export function stepSays(step: Keys): string {
  if (typeof step.title === 'string') return step.title;
  const deed = deedOf(step);
  if (!deed) return 'nothing yet';
  const value = step[deed];
  const named = (DEEDS[deed]?.name ?? deed).toLowerCase();
  if (deed === 'act') return `${String(value)} ${list(step.of).join(' ')}`;
  if (deed === 'question') return String((value as Keys).asks ?? 'question');
  if (deed === 'look' || deed === 'until') {
    const all = (Array.isArray(value) ? value : [value]) as Keys[];
    return `${named} ${all.map((r) => [r.rung, r.path ?? r.url ?? r.port ?? r.account ?? r.program ?? ''].join(' ')).join(', ')}`;
  }
  if (deed === 'bring_back') return list(value).includes('all') ? 'bring back as found' : `bring back ${list(value).join(' ')}`;
  return `${deed === 'work' || deed === 'announce' ? '' : `${named} `}${Array.isArray(value) ? value.join(' ') : String(value).split('\n')[0]}`;
}

const list = (value: unknown): string[] => (Array.isArray(value) ? value.map(String) : []);

const unset = (v: unknown): boolean => v === null || v === undefined || v === false || v === '' || (typeof v === 'object' && Object.keys(v).length === 0);

function withKeys(keys: Keys, set: Keys): Keys {
  const out = { ...keys };
  for (const [key, value] of Object.entries(set)) {
    if (unset(value)) delete out[key];
    else out[key] = value;
  }
  return out;
}

/** What is written once a change is made: shown at once, while the server makes it in the text. */
export function applied(written: Written, edit: Edit): Written {
  const steps = [...(written.steps ?? [])];
  switch (edit.edit) {
    case 'head':
      return withKeys(written as Keys, edit.set) as Written;
    case 'ask': {
      const questions = { ...written.questions };
      if (edit.set) questions[edit.name] = withKeys(questions[edit.name] ?? {}, edit.set);
      else delete questions[edit.name];
      return { ...written, questions };
    }
    case 'insert':
      steps.splice(edit.line - 1, 0, withKeys({}, edit.step));
      break;
    case 'change':
      steps[edit.line - 1] = withKeys(steps[edit.line - 1] ?? {}, edit.set);
      break;
    case 'move':
      steps.splice(edit.to - 1, 0, ...steps.splice(edit.line - 1, 1));
      break;
    case 'remove':
      steps.splice(edit.line - 1, 1);
      break;
  }
  return { ...written, steps };
}

/** A value as text in a field, and back. */
export function shownAs(kind: Kind, value: unknown): string {
  if (value === undefined || value === null) return '';
  if (kind === 'words') return list(value).join(' ');
  if (kind === 'lines') return list(value).join('\n');
  if (kind === 'numbers') return list(value).join(' ');
  if (kind === 'pairs') return Object.entries(value as Keys).map(([k, v]) => `${k}=${String(v)}`).join('\n');
  return String(value);
}

export function readAs(kind: Kind, text: string): unknown {
  const words = text.split(/[\s,]+/).filter(Boolean);
  const lines = text.split('\n').filter((l) => l !== '');
  switch (kind) {
    case 'words':
      return words;
    case 'lines':
      return lines;
    case 'numbers':
      return words.map(Number).filter(Number.isInteger);
    case 'number':
      // What is no number goes to the text as it is, and is told there.
      return text.trim() === '' ? null : /^-?\d+$/.test(text.trim()) ? Number(text) : text.trim();
    case 'pairs':
      return Object.fromEntries(lines.map((l) => [l.split('=')[0]?.trim() ?? '', l.slice(l.indexOf('=') + 1)]).filter(([k]) => k));
    default:
      return text;
  }
}

/** Where each step's head stands in the text, in characters. */
export function heads(text: string): number[] {
  return [...text.matchAll(/^\[\[\s*procedure\s*\.[^\]\n]+\.\s*steps\s*\]\]/gim)].map((m) => m.index);
}

/** The line of the text, from 1, on which each step's head stands. */
export function headLines(text: string): number[] {
  const lines: number[] = [];
  let [line, at] = [1, 0];
  for (const head of heads(text)) {
    for (; at < head; at += 1) if (text.charCodeAt(at) === 10) line += 1;
    lines.push(line);
  }
  return lines;
}
