/** Times as people read them. */

export const ms = (instant: string): number => Date.parse(instant);

/** How old something is, in short. */
export function age(from: number, now: number): string {
  const s = Math.max(0, Math.floor((now - from) / 1000));
  if (s < 1) return 'now';
  if (s < 100) return `${s} s`;
  if (s < 6000) return `${Math.floor(s / 60)} min`;
  return `${Math.floor(s / 3600)} h`;
}

/** A length of time as people say it. */
export function roughly(length: number): string {
  if (length < 1000) return 'a moment';
  if (length < 100_000) return `${Math.ceil(length / 1000)} s`;
  if (length < 6_000_000) return `${Math.ceil(length / 60_000)} min`;
  return `${(length / 3_600_000).toFixed(1)} h`;
}

const two = (n: number): string => String(n).padStart(2, '0');

/** The time of day. */
export function clock(at: number): string {
  const d = new Date(at);
  return `${two(d.getHours())}:${two(d.getMinutes())}:${two(d.getSeconds())}`;
}

/** A point in time to the millisecond with the zone it is told in: acts and a journal's lines stand one below the other, beside lines with times of their own. */
export function moment(at: number): string {
  const d = new Date(at);
  const off = -d.getTimezoneOffset();
  const zone = `${off < 0 ? '-' : '+'}${two(Math.floor(Math.abs(off) / 60))}:${two(Math.abs(off) % 60)}`;
  return `${d.getFullYear()}-${two(d.getMonth() + 1)}-${two(d.getDate())} ${clock(at)}.${String(d.getMilliseconds()).padStart(3, '0')} ${zone}`;
}

/** The day and time of day. */
export function day(at: number): string {
  const d = new Date(at);
  return `${d.getDate()} ${d.toLocaleString('en', { month: 'short' })} ${clock(at)}`;
}
