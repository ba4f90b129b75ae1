/** How hosts stand: told by themselves where they can be acted on, else by the link to them. */
import type { BoardRow, BoardView, HostRow, Schemas } from './api';
import { isHost } from './deeds';
import { hue, rowHue, word } from './states';

/** The state of a host itself, in its own words. */
export function hostState(state: string): string {
  const own: Partial<Record<string, string>> = { proven: 'on', down: 'off', rising: 'coming up', sinking: 'going down' };
  return own[state] ?? word(state);
}

/** How a host stands, in a word and a hue. */
export function stands(host: HostRow, itself: BoardRow | undefined): { word: string; hue: string } {
  if (itself) return { word: hostState(itself.seen.state), hue: rowHue(itself) };
  if (host.reach === 'simulated') return { word: 'simulated', hue: 'rest' };
  if (!host.link) return { word: 'this machine', hue: 'proven' };
  return host.link.up ? { word: 'reached', hue: 'proven' } : { word: 'out of reach', hue: 'unreach' };
}

/** What runs on a host, by state: the worst first. */
export function gathered(rows: BoardRow[]): { word: string; hue: string; n: number }[] {
  const order: Schemas['SeenState'][] = ['down', 'ailing', 'out-of-reach', 'unknown', 'rising', 'sinking', 'proven'];
  const all = new Map<string, { word: string; hue: string; n: number; at: number }>();
  for (const row of rows) {
    const key = `${row.seen.state}${row.differs}`;
    const at = order.indexOf(row.seen.state) + (row.seen.state === 'down' && !row.differs ? 10 : 0);
    const known = all.get(key) ?? { word: word(row.seen.state), hue: hue(row.seen.state, row.differs), n: 0, at };
    known.n += 1;
    all.set(key, known);
  }
  return [...all.values()].sort((a, b) => a.at - b.at);
}

/** The rows of a board by host, the hosts themselves apart. */
export function byHost(board: BoardView): Map<string, { itself?: BoardRow; services: BoardRow[] }> {
  const hosts = new Map<string, { itself?: BoardRow; services: BoardRow[] }>();
  for (const host of board.hosts) hosts.set(host.name, { services: [] });
  for (const row of board.services) {
    const host = hosts.get(row.address.slice(0, row.address.indexOf('/')));
    if (!host) continue;
    if (isHost(row.address)) host.itself = row;
    else host.services.push(row);
  }
  return hosts;
}

/** A line there and back, as people read it. */
export const roundTrip = (us: number): string => (us < 1000 ? `${us} µs` : `${(us / 1000).toFixed(us < 10_000 ? 1 : 0)} ms`);
