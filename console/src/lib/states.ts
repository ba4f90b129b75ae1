/** From states to words, hues and marks, in one place. */
import type { BoardRow, SeenState, Step, StepView } from './api';
import { deed } from './deeds';

/** The word people read, with its spaces. */
export const word = (state: string): string => state.replaceAll('-', ' ');

/** With a capital, to begin a label. */
export const upper = (text: string): string => `${text[0]?.toUpperCase() ?? ''}${text.slice(1)}`;

/** The hue of a seen state: the name of a colour token. */
export function hue(state: SeenState, differs = false): string {
  switch (state) {
    case 'proven':
      return 'proven';
    case 'rising':
    case 'sinking':
      return 'moving';
    case 'ailing':
      return 'ailing';
    case 'out-of-reach':
      return 'unreach';
    case 'down':
      return differs ? 'alarm' : 'rest';
    case 'unknown':
      return 'rest';
  }
}

/** The hue of a row on the board: what a run is working on alarms only where it failed. */
export function rowHue(row: Pick<BoardRow, 'seen' | 'differs' | 'in_run' | 'failed_in_run'>): string {
  if (row.failed_in_run) return 'alarm';
  if (row.differs && row.seen.state === 'down' && typeof row.in_run === 'number') return 'moving';
  return hue(row.seen.state, row.differs);
}

/** The hue of a run's state. */
export function runHue(state: string): string {
  switch (word(state)) {
    case 'running':
    case 'putting back':
      return 'moving';
    case 'held':
    case 'given up':
    case 'put back in part':
    case 'refused':
      return 'alarm';
    case 'finished':
      return 'proven';
    case 'finished with exceptions':
    case 'put back':
      return 'ailing';
    default:
      return 'rest';
  }
}

/** The word of a step, which for an ended one is how it ended. */
export function stepWord(now: StepView['now']): string {
  return word(now.state === 'ended' ? now.end : now.state);
}

/** The hue of a step. */
export function stepHue(now: StepView['now']): string {
  if (asks(now)) return 'accent';
  switch (stepWord(now)) {
    case 'done':
      return 'proven';
    case 'acting':
    case 'proving':
      return 'moving';
    case 'failed':
    case 'outcome unknown':
    case 'asking':
      return 'alarm';
    case 'passed over':
    case 'vouched':
    case 'not begun':
      return 'ailing';
    default:
      return 'rest';
  }
}

/** Whether a step asks a person something: that is no failure. */
export const asks = (now: StepView['now']): boolean => now.state === 'asking' && typeof now.answer === 'string';

/** Whether a step awaits a decision. */
export const awaits = (now: StepView['now']): boolean => now.state === 'failed' || now.state === 'outcome-unknown' || (now.state === 'asking' && !asks(now));

/** What a step does, in a word. */
export const act = (kind: string): string => (kind === 'await' ? 'wait for' : kind.startsWith('until') ? 'wait' : kind.replaceAll('-', ' '));

/** The same, with the name of a further act, and in the words that hosts have. */
export function does(step: Pick<Step, 'kind' | 'task'> & { address?: string | null; comes_back?: boolean }): string {
  if (step.task?.kind === 'act') return step.task.act;
  if (step.comes_back && step.kind === 'stop') return 'reboot';
  if (step.comes_back && step.kind === 'start') return 'await return of';
  return step.kind === 'start' || step.kind === 'stop' ? deed(step.kind, step.address) : act(step.kind);
}
