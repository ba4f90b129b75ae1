/** What is done to hosts is called otherwise than what is done to services. */
import type { Wish } from './api';

/** Whether an address is a host itself. */
export const isHost = (address: string): boolean => address.endsWith('/host');
/** Whether it is a host itself, or what feeds one. */
export const isPower = (address: string): boolean => isHost(address) || address.endsWith('/outlet');

const OF_HOSTS: Partial<Record<string, string>> = { start: 'power on', stop: 'shut down', restart: 'reboot', 'power-cycle': 'power-cycle' };
const OF_OUTLETS: Partial<Record<string, string>> = { start: 'switch on', stop: 'switch off' };

/** What a kind of step or a wish is called of this address. */
export function deed(kind: string, address?: string | null): string {
  const known = address ? (isHost(address) ? OF_HOSTS[kind] : isPower(address) ? OF_OUTLETS[kind] : undefined) : undefined;
  return known ?? kind.replaceAll('-', ' ');
}

/** The same of several: only where all are hosts is it a host's word. */
export function wishOf(wish: Wish, of: string[]): string {
  return deed(wish, of.length > 0 && of.every(isHost) ? of[0] : null);
}
