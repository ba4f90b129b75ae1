import type { Schemas } from './api';

const word = (text: string): string => (/^[\w@%+=:,./-]+$/.test(text) ? text : `'${text.replaceAll("'", `'\\''`)}'`);

function value(text: string, isReference: boolean): string {
  if (!isReference) return word(text);
  if (text.startsWith('file:')) return `"$(cat ${word(text.slice(5))})"`;
  if (text.startsWith('env:')) return `"$${text.slice(4)}"`;
  return word(text);
}

/** What does the same when it is pasted into a shell there: in its folder, as its account, with its environment, secrets read where they lie. */
export function typed(begun: Schemas['ActBegun']): string {
  const signal = begun.command[0]?.startsWith('signal ') ? begun.command[0].slice(7) : null;
  let words = signal ? ['kill', '-s', signal, ...begun.command.slice(1)] : begun.command.map(word);
  const env = Object.entries(begun.env ?? {});
  if (env.length > 0) words = ['env', ...env.map(([name, v]) => `${name}=${value(v, !begun.to_the_letter?.includes(name))}`), ...words];
  if (!['', 'root'].includes(begun.user) && !signal && begun.command[0] !== 'sudo') words = ['sudo', '-u', word(begun.user), '--', ...words];
  const command = words.join(' ');
  return ['', '/'].includes(begun.dir) || signal ? command : `cd ${word(begun.dir)} && ${command}`;
}
