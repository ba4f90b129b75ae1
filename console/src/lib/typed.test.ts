import { expect, test } from 'vitest';
import type { Schemas } from './api';
import { typed } from './typed';

const begun = (more: Partial<Schemas['ActBegun']>): Schemas['ActBegun'] => ({ command: ['/opt/fares', '--lane', "it's A"], dir: '/srv/fares', user: 'fares', marks: {}, ...more });

test('a command can be pasted and does the same there', () => {
  expect(typed(begun({ env: { KEY: 'file:/etc/ferry/the key', LANE: 'A B', TOKEN: 'env:TOKEN' } }))).toBe(
    `cd /srv/fares && sudo -u fares -- env KEY="$(cat '/etc/ferry/the key')" LANE='A B' TOKEN="$TOKEN" /opt/fares --lane 'it'\\''s A'`,
  );
  expect(typed(begun({ command: ['/bin/on'], dir: '/', user: 'root', env: { WHO: 'file:/etc/shadow' }, to_the_letter: ['WHO'] }))).toBe('env WHO=file:/etc/shadow /bin/on');
  expect(typed(begun({ command: ['signal TERM', '231'], dir: '/', user: 'root' }))).toBe('kill -s TERM 231');
  expect(typed(begun({ command: ['sudo', '-n', '--', '/bin/on'], dir: '/', user: 'root' }))).toBe('sudo -n -- /bin/on');
});
