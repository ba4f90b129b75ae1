<!-- One service on the board: state, what shows it, how old that is, what can be done. -->
<script lang="ts">
  import { Refused, api, identity, request, type BoardRow, type PlanView } from '../lib/api';
  import { deed, isHost } from '../lib/deeds';
  import { hostState } from '../lib/hosts';
  import { live } from '../lib/live.svelte';
  import { router } from '../lib/router.svelte';
  import { rowHue, upper, word } from '../lib/states';
  import { age, ms } from '../lib/time';
  import Address from './Address.svelte';
  import Confirm from './Confirm.svelte';
  import Dial from './Dial.svelte';

  let { row, asOf, at }: { row: BoardRow; asOf: number; at: number } = $props();

  const notes = $derived(
    [
      row.failed_in_run ?? '',
      // Two witnesses: the manager's word goes before the ladder's.
      row.seen.manager && row.seen.state !== 'out-of-reach' && !row.seen.says.startsWith(row.seen.manager.active) ? `${row.seen.manager.active} (${row.seen.manager.sub})` : '',
      row.seen.manager && row.seen.manager.restarts > 0 && row.seen.state !== 'out-of-reach' && !row.seen.says.includes('started') ? `started again ${row.seen.manager.restarts === 1 ? 'once' : `${row.seen.manager.restarts} times`} by its manager` : '',
      row.seen.last_known ? `last seen ${word(row.seen.last_known.state)}, ${age(ms(row.seen.last_known.at), asOf)} ago` : '',
      row.seen.says,
      ...(row.notes ?? []),
      row.differs && typeof row.in_run !== 'number' && row.seen.state !== 'down' ? 'differs from expected' : '',
      row.intended_down && row.seen.state === 'down' ? row.intended_down : '',
      row.seen.state === 'down' && !row.differs && row.expected === 'down' ? 'as expected' : '',
    ].filter(Boolean),
  );
  /** It runs, and only a line in its log is against it. */
  const known = $derived(!!row.seen.log_against && row.seen.state === 'ailing');
  let asking = $state(false);
  async function acknowledge(why: string): Promise<string | null> {
    try {
      live.take(await api.acknowledge(row.address, why));
      return null;
    } catch (error) {
      if (error instanceof Refused) return `${error.message}. ${error.hint}`;
      throw error;
    }
  }
  let told = $state<string | null>(null);
  // What it would come to is worked out and shown first; what is begun is that.
  let planned = $state.raw<PlanView | null>(null);
  let cannot = $state<string | null>(null);
  async function askFor(name: string): Promise<void> {
    planned = null;
    cannot = null;
    told = name;
    try {
      const found = await api.plan(request({ act: { act: name, of: [row.address] } }));
      if (told !== name) return;
      planned = found;
      cannot = planned.can_begin ? null : [...planned.obstacles.map((o) => `${o.why}; ${o.mend}`), ...planned.asks.map((a) => a.says)].join('. ');
    } catch (error) {
      if (!(error instanceof Refused)) throw error;
      cannot = `${error.message}. ${error.hint}`;
    }
  }
  async function giveAct(why: string): Promise<string | null> {
    try {
      if (!planned?.can_begin) return cannot ?? 'It is still being worked out what this would do';
      const { id } = await api.begin(request({ act: { act: told ?? '', of: [row.address] } }, { why: why || null, shown: planned.digest, asked_as: identity() }));
      router.go(`/runs/${id}`);
      return null;
    } catch (error) {
      if (error instanceof Refused) return `${error.message}. ${error.hint}`;
      throw error;
    }
  }
  const acts: Record<string, { name: string; does: string }> = {
    're-read': { name: 'Re-read', does: 'The host’s manager reads all its definitions anew. Nothing is started or stopped by that; what changed counts from the next start on.' },
    'at-boot-on': { name: 'At boot on', does: 'It comes up by itself when its host boots. Nothing is started now.' },
    'at-boot-off': { name: 'At boot off', does: 'It stays down when its host boots. Nothing is stopped now.' },
  };
  const plan = (wish: string): string => `/plan?wish=${wish}&of=${encodeURIComponent(row.address)}`;
</script>

<tr class="h-8 border-b border-line2 [&>td]:px-2.5 [&>td]:py-[3px]" data-address={row.address}>
  <td class="truncate pl-3.5 max-md:whitespace-normal" title="{row.address} {row.title}"><a href="/map?of={encodeURIComponent(row.address)}" class="hover:underline"><Address address={row.address} /></a> <span class="ml-1.5 text-ink3 max-md:hidden">{row.title}</span></td>
  <td>
    <span class="flex items-center gap-2 whitespace-nowrap">
      <Dial seen={row.seen} differs={row.differs} hue={rowHue(row)} />
      <span class="font-semibold" style="color: var(--{rowHue(row)})">{isHost(row.address) ? hostState(row.seen.state) : word(row.seen.state)}</span>
      {#if row.seen.state === 'rising' || row.seen.state === 'sinking'}<span class="text-ink3">{row.seen.rungs_climbed} of {row.seen.rungs}</span>{/if}
    </span>
  </td>
  <td class="truncate text-ink2 max-md:p-0! max-md:text-[0px]" title={notes.join(' · ')}>
    {#if row.restart_owed}<span class="text-accent">restart owed: {row.owed_because}</span>{#if notes.length > 0} · {/if}{/if}{notes.join(' · ')}
  </td>
  <td class="whitespace-nowrap text-ink2">{age(at, asOf)}</td>
  <td class="whitespace-nowrap">
    {#if row.in_run !== null && row.in_run !== undefined}
      <a class="text-accent underline" href="/runs/{row.in_run}">in run {row.in_run}</a>
    {:else if row.cannot}
      <span class="text-[13.5px] text-ink3" title={row.cannot}>{row.hands_off ? 'hands-off' : row.cannot}</span>
    {:else}
      <span class="flex gap-1.5">
        {#each known ? row.can.slice(0, 1) : row.can as wish, i (wish)}<a class="btn btn-small {i > 0 ? 'max-md:hidden' : ''}" href={plan(wish)} aria-label="{deed(wish, row.address)} {row.address}: plan it">{upper(deed(wish, row.address))}…</a>{/each}
        {#each row.acts ?? [] as name (name)}<button class="btn btn-small max-md:hidden" onclick={() => askFor(name)} aria-label="{acts[name]?.name ?? name} {row.address}">{acts[name]?.name ?? name}…</button>{/each}
        {#if known}<button class="btn btn-small max-md:hidden" onclick={() => (asking = true)} aria-label="acknowledge the line against {row.address}">Acknowledge…</button>{/if}
      </span>
    {/if}
    {#if told}
      <Confirm
        bind:open={() => told !== null, (open) => (open ? null : (told = null))}
        title="{acts[told]?.name ?? told}: {row.address}"
        says="{live.board?.estate} · {live.board?.stands_for}. {acts[told]?.does ?? ''}"
        action={acts[told]?.name ?? told}
        onconfirm={giveAct}
      >
        {#if cannot}<p class="mt-3 border border-alarm bg-alarm-soft px-3.5 py-2" role="alert">{cannot}</p>
        {:else if planned}<p class="mt-3">{planned.says}</p>{:else}<p class="mt-3 text-ink2">Working out what this would do…</p>{/if}
      </Confirm>
    {/if}
    {#if row.seen.log_against}
      <Confirm
        bind:open={asking}
        title="Take this line as known: {row.address}"
        says="{live.board?.estate} · {live.board?.stands_for}. Run {row.seen.log_against.run} saw a forbidden line in {row.seen.log_against.source}: “{row.seen.log_against.line}”. Acknowledged, it no longer keeps the service ailing; the record keeps line and reason."
        action="Acknowledge"
        needsReason
        onconfirm={acknowledge}
      />
    {/if}
  </td>
</tr>
