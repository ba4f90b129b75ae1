<!-- The hosts: how each stands and is reached, what runs on it, and what can be done with the host itself. -->
<script lang="ts">
  import { live } from '../lib/live.svelte';
  import { router } from '../lib/router.svelte';
  import { byHost, stands } from '../lib/hosts';
  import HostLine from '../parts/HostLine.svelte';
  import Note from '../parts/Note.svelte';

  const board = $derived(live.board);
  const find = $derived(router.query.get('find') ?? '');
  const all = $derived(board ? byHost(board) : null);
  const shown = $derived((board?.hosts ?? []).filter((h) => !find || `${h.name} ${h.title ?? ''} ${h.address}`.toLowerCase().includes(find.toLowerCase())));
  const counts = $derived.by(() => {
    const known = new Map<string, { word: string; hue: string; n: number }>();
    for (const host of board?.hosts ?? []) {
      const how = stands(host, all?.get(host.name)?.itself);
      const one = known.get(how.word) ?? { ...how, n: 0 };
      one.n += 1;
      known.set(how.word, one);
    }
    return [...known.values()].sort((a, b) => a.n - b.n);
  });
  const switched = $derived((board?.hosts ?? []).filter((h) => h.itself).map((h) => `${h.name}/host`));
  /** More than these are scrolled to: a page of thousands is found in, not read. */
  const MOST = 100;
</script>

<div class="flex flex-wrap items-center gap-3">
  <h1>Hosts</h1>
  <span class="flex-1"></span>
  <input class="field w-[210px]" type="search" placeholder="Find a host" aria-label="Find a host" value={find} oninput={(e) => router.go(e.currentTarget.value ? `/hosts?find=${encodeURIComponent(e.currentTarget.value)}` : '/hosts', true)} />
  {#if switched.length > 1 && switched.length <= 40}
    <a class="btn" href="/plan?wish=stop&of={encodeURIComponent(switched.join(','))}">Shut all down…</a>
  {/if}
</div>
<div class="mt-2.5 mb-3 flex flex-wrap items-baseline gap-x-6">
  {#each counts as c (c.word)}
    <span class="text-ink2"><b class="text-[23px] font-[650]" style="color: var(--{c.hue})">{c.n}</b> {c.word}</span>
  {/each}
</div>
{#if (board?.hosts ?? []).length === 0}
  <Note title="No hosts yet"><p>Describe a first one in the estate: <code class="font-mono">[host.NAME]</code>, with how it is reached.</p></Note>
{:else if shown.length === 0}
  <p class="sheet p-4 text-ink2">No host is called that.</p>
{:else}
  <table class="sheet w-full table-fixed border-collapse max-md:block">
    <thead class="max-md:hidden">
      <tr class="text-left text-[13.5px] text-ink3 [&>th]:px-2.5 [&>th]:py-1 [&>th]:font-medium">
        <th class="w-[216px] max-lg:w-[34%]">Host</th><th class="w-[118px]">State</th><th class="max-md:hidden">How it is reached</th><th class="w-[124px] max-lg:hidden">What runs there</th><th class="w-[424px] max-lg:w-[190px]"><span class="sr-only">What can be done</span></th>
      </tr>
    </thead>
    <tbody class="max-md:block">
      {#each shown.slice(0, MOST) as host (host.name)}
        <HostLine {host} itself={all?.get(host.name)?.itself} services={all?.get(host.name)?.services ?? []} />
      {/each}
    </tbody>
  </table>
  {#if shown.length > MOST}<p class="mt-2 text-ink3">{MOST} of {shown.length}: find the others by name.</p>{/if}
{/if}
