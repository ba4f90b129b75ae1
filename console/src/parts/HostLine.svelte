<!-- One host: its own state where it can be acted on, the link to it, what runs there, what can be done. -->
<script lang="ts">
  import type { BoardRow, HostRow } from '../lib/api';
  import { deed } from '../lib/deeds';
  import { gathered, roundTrip, stands } from '../lib/hosts';
  import { live } from '../lib/live.svelte';
  import { rowHue, upper } from '../lib/states';
  import { age, ms, roughly } from '../lib/time';
  import Dial from './Dial.svelte';

  let { host, itself, services, alone = false }: { host: HostRow; itself?: BoardRow; services: BoardRow[]; /** On its own page. */ alone?: boolean } = $props();

  const how = $derived(stands(host, itself));
  const link = $derived(host.link);
  const off = $derived(itself?.seen.state === 'down');
  /** Why it is not reached is in its own state already: it is not said twice. */
  const saysWhy = $derived(!!link && !link.up && !!link.why && !!itself?.seen.says.includes(link.why));
  /** In the words of the link; one that is off is no trouble. */
  const reached = $derived.by((): string => {
    if (host.reach === 'simulated') return 'simulated: played, with stated times and chances';
    if (!link) return 'this machine';
    if (off) return itself?.seen.says ?? '';
    if (!link.up) return `${saysWhy ? itself?.seen.says : (link.why ?? 'not reached')}, for ${age(ms(link.since), live.serverNow)}`;
    const parts = [`SSH${link.account ? ` as ${link.account}` : ''}`, link.round_trip_us ? roundTrip(link.round_trip_us) : ''];
    return parts.filter(Boolean).join(' · ');
  });
  const clockOff = $derived(link?.up && Math.abs(link.clock_ahead_ms ?? 0) >= 2000 ? `clock ${roughly(Math.abs(link.clock_ahead_ms!))} ${link.clock_ahead_ms! > 0 ? 'ahead' : 'behind'}` : '');
  const address = $derived(`${host.name}/host`);
  /** What stops by itself can be taken down by its power, too. */
  const wishes = $derived(!itself || itself.cannot ? [] : itself.can.includes('restart') ? [...itself.can, 'power-cycle'] : itself.can);
  const plan = (wish: string): string => `/plan?wish=${wish}&of=${encodeURIComponent(address)}`;
</script>

<!-- On a narrow screen a line is a card: name and state, and below them all that is said and can be done. -->
<tr class="{alone ? '' : 'border-t border-line2'} align-top max-md:grid max-md:grid-cols-[1fr_auto] max-md:py-1 [&>td]:px-2.5 [&>td]:py-1.5 max-md:[&>td]:py-1" data-host={host.name}>
  <td class="pl-3.5"><a class="font-mono font-semibold hover:underline" href="/hosts/{host.name}">{host.name}</a> <span class="text-ink3">{host.address}</span>{#if host.title}<span class="block truncate text-[14px] text-ink2" title={host.title}>{host.title}</span>{/if}</td>
  <td>
    <span class="flex items-center gap-2 whitespace-nowrap">
      {#if itself}<Dial seen={itself.seen} differs={itself.differs} hue={rowHue(itself)} />{:else}<Dial seen={{ state: how.word === 'out of reach' ? 'out-of-reach' : 'proven', rungs: 1, rungs_climbed: 1 }} hue={how.hue} />{/if}
      <b style="color: var(--{how.hue})">{how.word}</b>
    </span>
  </td>
  <td class="text-ink2 max-md:col-span-2">
    {reached}{#if link?.up && link.boot}<span class="block text-[14px] text-ink3" title={link.boot}>boot {link.boot.slice(0, 8)}</span>{/if}{#if clockOff}<span class="text-moving"> · {clockOff}</span>{/if}
    {#if link?.up && link.plain_shell}<span class="block text-moving">{link.plain_shell}</span>{/if}
    {#if host.kept}<span class="block text-alarm">not acted on: {host.kept}</span>{/if}
    {#if itself && !off && !saysWhy && itself.seen.state !== 'proven' && itself.seen.says}<span class="block text-[14px] text-ink3">{itself.seen.says}</span>{/if}
  </td>
  <td class="max-lg:hidden max-md:col-span-2 max-md:block">
    {#each gathered(services) as g (g.word + g.hue)}<a class="mr-3 whitespace-nowrap hover:underline" href="/?find={encodeURIComponent(`${host.name}/`)}"><b style="color: var(--{g.hue})">{g.n}</b> <span class="text-ink2">{g.word}</span></a>{:else}<span class="text-ink3">nothing described</span>{/each}
  </td>
  <td class="max-md:col-span-2">
    {#if typeof itself?.in_run === 'number'}
      <a class="text-accent underline" href="/runs/{itself.in_run}">in run {itself.in_run}</a>
    {:else}
      <span class="flex flex-wrap gap-1.5">
        {#each wishes as wish (wish)}<a class="btn btn-small" href={plan(wish)} aria-label="{deed(wish, address)} {host.name}: plan it">{upper(deed(wish, address))}…</a>{/each}
        {#if host.reach !== 'simulated' && !off && !alone}<a class="btn btn-small" href="/hosts/{host.name}">Look through</a>{/if}
      </span>
      {#if itself?.cannot}<span class="block text-[13.5px] text-ink3">{itself.cannot}</span>{/if}
    {/if}
  </td>
</tr>
