/** The board as it is kept here: whole once, and then by what is new. */
import type { BoardRow, BoardView } from './api';

/** A board with what is new put in; a whole one takes its place. */
export function renewed(known: BoardView | null, news: BoardView): BoardView {
  if (news.whole || !known) return news;
  return {
    ...news,
    services: put(known.services, news.services, (r) => r.address),
    hosts: put(known.hosts, news.hosts, (h) => h.name),
  };
}

function put<T>(known: T[], news: T[], name: (one: T) => string): T[] {
  if (news.length === 0) return known;
  const by = new Map(news.map((one) => [name(one), one]));
  return known.map((one) => by.get(name(one)) ?? one);
}

/** When a service was looked at last: its row is told anew only when something else of it changed. */
export function seenAt(row: BoardRow, lookedAt: number, behind: BoardView['behind'] = {}): number {
  const before = behind?.[row.address];
  if (before) return Date.parse(before);
  if (row.seen.last_known) return Date.parse(row.seen.last_known.at);
  const at = Date.parse(row.seen.as_of);
  return row.seen.state === 'unknown' || row.seen.state === 'out-of-reach' ? at : Math.max(at, lookedAt);
}

/** Titles as they are searched in, made once for each row that is told. */
const searched = new WeakMap<BoardRow, string>();

/** Whether a service is meant by what was typed, in small letters. */
export function isFound(row: BoardRow, wanted: string): boolean {
  let text = searched.get(row);
  if (text === undefined) searched.set(row, (text = `${row.address}\n${row.title.toLowerCase()}`));
  return text.includes(wanted);
}
