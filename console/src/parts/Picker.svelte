<!-- Choose services, host by host. -->
<script lang="ts">
  import { live } from '../lib/live.svelte';
  import { word } from '../lib/states';
  import Dial from './Dial.svelte';

  let { chosen, onchange }: { chosen: string[]; onchange: (chosen: string[]) => void } = $props();
  let find = $state('');

  const rows = $derived((live.board?.services ?? []).filter((r) => !find || `${r.address} ${r.title}`.toLowerCase().includes(find.toLowerCase())));
  /** What is chosen stands first, so that it is seen however long the list is. */
  const ordered = $derived([...(live.board?.services ?? []).filter((r) => chosen.includes(r.address)), ...rows.filter((r) => !chosen.includes(r.address))]);
  /** So many are offered at once; the others are found by name. */
  const MOST = 250;
  const groups = $derived([...new Set((live.board?.services ?? []).flatMap((r) => r.groups))].sort());
  function toggle(address: string): void {
    onchange(chosen.includes(address) ? chosen.filter((a) => a !== address) : [...chosen, address].sort());
  }
  function group(name: string): void {
    onchange((live.board?.services ?? []).filter((r) => r.groups.includes(name)).map((r) => r.address));
  }
</script>

<section class="flex min-h-0 flex-col" aria-label="Services">
  <input class="field w-full" type="search" placeholder="Find a service" aria-label="Find a service" bind:value={find} />
  <div class="mt-2 flex flex-wrap items-center gap-1.5 text-[14px] text-ink3">
    {#each groups as name (name)}<button class="btn btn-small" onclick={() => group(name)}>{name}</button>{/each}
    {#if chosen.length > 0}<button class="btn btn-small" onclick={() => onchange([])}>none</button>{/if}
  </div>
  <ul class="sheet mt-2 min-h-0 flex-1 overflow-auto max-lg:max-h-[30vh]">
    {#each ordered.slice(0, MOST) as row (row.address)}
      <li class="border-b border-line2" class:bg-accent-soft={chosen.includes(row.address)}>
        <label class="flex items-center gap-2 px-2.5 py-1" title="{row.title}, {word(row.seen.state)}">
          <input type="checkbox" checked={chosen.includes(row.address)} onchange={() => toggle(row.address)} />
          <Dial seen={row.seen} differs={row.differs} size={17} />
          <span class="min-w-0 font-mono text-[13px] break-all">{row.address}</span>
        </label>
      </li>
    {/each}
    {#if ordered.length > MOST}<li class="px-2.5 py-1.5 text-ink3">{MOST} of {ordered.length}: find the others by name</li>{/if}
  </ul>
</section>
