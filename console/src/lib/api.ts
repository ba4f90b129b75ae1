/** Calls to the server. Types come from its OpenAPI description. */
import type { components } from './api.gen';

export type Schemas = components['schemas'];
export type BoardView = Schemas['BoardView'];
export type BoardRow = Schemas['BoardRow'];
export type HostRow = Schemas['HostRow'];
export type HostSurvey = Schemas['HostSurvey'];
export type FoundUnit = Schemas['FoundUnit'];
export type RunView = Schemas['RunView'];
export type StepView = Schemas['StepView'];
export type RunSummary = Schemas['RunSummary'];
export type PlanView = Schemas['PlanView'];
export type Step = Schemas['Step'];
export type Allowed = Schemas['Allowed'];
export type Relations = Schemas['Relations'];
export type Problem = Schemas['Problem'];
export type SeenState = Schemas['SeenState'];
export type Wish = Schemas['Wish'];
export type BeginRequest = Schemas['BeginRequest'];
export type ProcedureView = Schemas['ProcedureView'];
export type ProcedureSummary = Schemas['ProcedureSummary'];
export type Rehearsal = Schemas['Rehearsal'];
export type RunForecast = Schemas['RunForecast'];
export type Report = Schemas['Report'];
export type Comparison = Schemas['Comparison'];
export type Draft = Schemas['Draft'];
export type ProcedureDifference = Schemas['ProcedureDifference'];
export type Forecast = Schemas['Forecast'];

/** What the server refused, with what to do about it. */
export class Refused extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail);
  }
  get hint(): string {
    return this.problem.hint;
  }
}

/** Calls that only ask, though they take a body. */
const asks = (path: string): boolean => /\/(plan|draft|look|vet|consequences|rehearsals(\?.*)?)$/.test(path);

/** What changes something and gets no answer may have been carried out: nobody can say, and that is said. */
export function noAnswer(changes: boolean): Problem {
  const says = changes
    ? { detail: 'No answer came: it may have been carried out.', hint: 'See how it stands before you ask again; what is begun here is begun once, however often it is asked for.' }
    : { detail: 'The server does not answer.', hint: 'Is it running? This page tries again by itself.' };
  return { type: 'urn:yantro:problem:unreachable', title: 'No answer', status: 0, ...says };
}

/** An identity for something that is to be begun at most once, however often it is asked for. */
export function identity(): string {
  return [...crypto.getRandomValues(new Uint8Array(16))].map((b) => b.toString(16).padStart(2, '0')).join('');
}

async function call<T>(method: 'GET' | 'POST', path: string, body?: unknown): Promise<T> {
  let answer: Response;
  try {
    answer = await fetch(`/api/v1${path}`, {
      method,
      headers: { 'content-type': 'application/json', 'x-yantro': 'console' },
      body: method === 'POST' ? JSON.stringify(body ?? null) : undefined,
    });
  } catch {
    throw new Refused(noAnswer(method === 'POST' && !asks(path)));
  }
  const value: unknown = await answer.json().catch(() => null);
  if (!answer.ok) throw new Refused(value as Problem);
  return value as T;
}

/** A request for a run: what it is for, and the terms that differ from the usual. */
export const request = (does: BeginRequest['does'], terms: Partial<BeginRequest> = {}): BeginRequest => ({
  does,
  left_standing: [],
  below_keep_up: [],
  along: [],
  overrides: {},
  at_once: null,
  prefer: 'soonest',
  why: null,
  change: null,
  in_freeze: [],
  held_at_most: null,
  window: null,
  at_last_moment: 'hold',
  shown: null,
  asked_as: null,
  ...terms,
});

export const api = {
  board: (since?: number) => call<BoardView>('GET', `/board${since ? `?since=${since}` : ''}`),
  look: () => call<BoardView>('POST', '/look'),
  reach: (hosts: string[]) => call<BoardView>('POST', '/tries', { hosts }),
  run: (id: number, since?: number) => call<RunView>('GET', `/runs/${id}${since ? `?since=${since}` : ''}`),
  runs: (before?: number) => call<Schemas['RunPage']>('GET', `/runs?limit=50${before ? `&before=${before}` : ''}`),
  procedures: () => call<ProcedureSummary[]>('GET', '/procedures'),
  procedure: (name: string) => call<ProcedureView>('GET', `/procedures/${encodeURIComponent(name)}`),
  rehearse: (request: BeginRequest, fails?: number) => call<Rehearsal>('POST', `/rehearsals${fails ? `?fails=${fails}` : ''}`, request),
  draft: (name: string, request: Schemas['DraftRequest']) => call<Draft>('POST', `/procedures/${encodeURIComponent(name)}/draft`, request),
  edit: (name: string, request: Schemas['EditRequest']) => call<Schemas['EditOutcome']>('POST', `/procedures/${encodeURIComponent(name)}/editions`, request),
  editions: () => call<Schemas['EditionRow'][]>('GET', '/editions?limit=200'),
  difference: (name: string, query: string) => call<ProcedureDifference>('GET', `/procedures/${encodeURIComponent(name)}/difference${query}`),
  forecast: (run: number) => call<RunForecast>('GET', `/runs/${run}/forecast?steps=false`),
  report: (run: number) => call<Report>('GET', `/runs/${run}/report`),
  compare: (run: number, other: number | null) => call<Comparison>('GET', `/runs/${run}/comparison${other ? `?with=${other}` : ''}`),
  note: (run: number, text: string) => call<RunView>('POST', `/runs/${run}/notes`, { text }),
  takeOn: (run: number) => call<RunView>('POST', `/runs/${run}/taken`, {}),
  plan: (request: BeginRequest) => call<PlanView>('POST', '/plan', request),
  begin: (request: BeginRequest) => call<Schemas['RunBegun']>('POST', '/runs', request),
  anew: (run: number) => call<PlanView>('GET', `/runs/${run}/anew`),
  decide: (run: number, decision: Schemas['DecisionRequest']) => call<RunView>('POST', `/runs/${run}/decisions`, decision),
  consequences: (deed: Schemas['Deed']) => call<Schemas['Consequences']>('POST', '/consequences', deed),
  acknowledge: (address: string, why: string) => call<BoardView>('POST', '/acknowledgements', { address, why }),
  found: (on: string, describe: string[]) => call<HostSurvey>('GET', `/found?on=${encodeURIComponent(on)}${describe.length > 0 ? `&describe=${encodeURIComponent(describe.join(','))}` : ''}`),
  adopt: (host: string, units: string[], why: string) => call<Schemas['LoadOutcome']>('POST', '/adoptions', { host, units, why: why || null }),
  standstill: (on: boolean) => call<BoardView>('POST', '/standstill', { on, shown: null }),
  relations: (of: string) => call<Relations>('GET', `/relations?of=${encodeURIComponent(of)}`),
};
