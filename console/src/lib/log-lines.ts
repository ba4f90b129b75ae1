/** Followed log lines: what is kept, what is shown, where the next match is. Pure. */
import type { Schemas } from './api';

export type LogLine = Schemas['FollowedLine'];

/** Lines kept: enough to look back over an hour, and bounded. */
export const KEPT = 4000;

export const matches = (line: LogLine, search: string): boolean => search !== '' && `${line.address} ${line.text}`.toLowerCase().includes(search.toLowerCase());

/** Acts stay in view: they are what the lines around them are read by. */
export const shown = (lines: LogLine[], search: string, only: boolean): LogLine[] => (only && search ? lines.filter((l) => l.act || l.unreadable || matches(l, search)) : lines);

/** A line in pieces: what matches, and what stands around it. */
export function pieces(text: string, search: string): { text: string; hit: boolean }[] {
  const lower = text.toLowerCase();
  const wanted = search.toLowerCase();
  // Where lower case has other lengths, places do not agree: then the line is shown as it is.
  if (!wanted || lower.length !== text.length) return [{ text, hit: false }];
  const out: { text: string; hit: boolean }[] = [];
  let at = 0;
  for (let found = lower.indexOf(wanted); found >= 0; found = lower.indexOf(wanted, at)) {
    if (found > at) out.push({ text: text.slice(at, found), hit: false });
    out.push({ text: text.slice(found, found + wanted.length), hit: true });
    at = found + wanted.length;
  }
  if (at < text.length || out.length === 0) out.push({ text: text.slice(at), hit: false });
  return out;
}

/** The next place from `from` on, forwards or backwards, that is wanted; the same place where there is none. */
export function next(lines: LogLine[], from: number, forwards: boolean, wanted: (line: LogLine) => boolean): number {
  for (let i = from + (forwards ? 1 : -1); i >= 0 && i < lines.length; i += forwards ? 1 : -1) {
    const line = lines[i];
    if (line && wanted(line)) return i;
  }
  return from;
}
