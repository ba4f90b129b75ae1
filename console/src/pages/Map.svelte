<!-- What relies on what, left to right. Choosing a service lights what it needs and what relies on it. -->
<script lang="ts">
  import { deed } from '../lib/deeds';
  import { NODE, place, reached } from '../lib/layout';
  import { live } from '../lib/live.svelte';
  import { router } from '../lib/router.svelte';
  import { rowHue, upper, word } from '../lib/states';
  import Address from '../parts/Address.svelte';
  import Dial from '../parts/Dial.svelte';

  const everything = $derived(live.board?.services ?? []);
  const chosen = $derived(router.query.get('of'));
  /** Of very many, what has to do with the chosen one: no more can be read on one map. */
  const MOST = 400;
  const rows = $derived.by(() => {
    if (everything.length <= MOST) return everything;
    if (!chosen) return [];
    const near = new Set([chosen, ...reached(everything, chosen, 'needed'), ...reached(everything, chosen, 'reliant')]);
    return everything.filter((r) => near.has(r.address)).slice(0, MOST);
  });
  // Laid out anew only when what relies on what changes, not with every look.
  const shape = $derived(rows.map((r) => `${r.address}<${r.relies_on.join(',')}`).join(';'));
  const placed = $derived.by(() => {
    void shape;
    return place(rows);
  });
  const row = $derived(rows.find((r) => r.address === chosen));
  const needs = $derived(chosen ? reached(rows, chosen, 'needed') : new Set<string>());
  const takes = $derived(chosen ? reached(rows, chosen, 'reliant') : new Set<string>());
  const of = $derived(new Map(rows.map((r) => [r.address, r])));

  const lit = (address: string): boolean => !chosen || address === chosen || needs.has(address) || takes.has(address);
  const edgeLit = (from: string, to: string): boolean => {
    const inNeeds = (to === chosen || needs.has(to)) && needs.has(from);
    const inTakes = (from === chosen || takes.has(from)) && takes.has(to);
    return inNeeds || inTakes;
  };
  let wide = $state(0);
  /** Whole where its text can be read so; else as large as can be read well, and scrolled. */
  const least = $derived(wide / placed.width >= 0.7 ? 0 : placed.width * 0.92);
  function choose(address: string): void {
    router.go(address === chosen ? '/map' : `/map?of=${encodeURIComponent(address)}`, true);
  }
</script>

<div class="flex h-full flex-col">
  <div class="flex flex-wrap items-baseline gap-4">
    <h1>Map</h1>
    <p class="text-ink2">A line runs from what is relied on, left, to what relies on it. Choose a service to light both.</p>
  </div>
  <div class="mt-3 grid min-h-0 flex-1 grid-cols-[minmax(0,1fr)_280px] gap-3 max-lg:grid-cols-1">
    <div class="sheet overflow-auto" bind:clientWidth={wide}>
      {#if rows.length === 0 && everything.length > 0}<p class="p-4 text-ink2">{everything.length} services are more than one map can show. Choose one on the board, or by Ctrl K, and see what it needs and what relies on it.</p>{/if}
      <svg viewBox="0 0 {placed.width} {placed.height}" style="width: 100%; min-width: {least}px; max-width: {placed.width}px" class="block" role="group" aria-label="Map of services">
        {#each placed.edges as edge (edge.from + edge.to)}
          <path d={edge.d} fill="none" stroke={edgeLit(edge.from, edge.to) ? 'var(--accent)' : 'var(--ink3)'} stroke-opacity={chosen && !edgeLit(edge.from, edge.to) ? 0.25 : edgeLit(edge.from, edge.to) ? 1 : 0.5} stroke-width={edgeLit(edge.from, edge.to) ? 2.2 : 1.4} />
        {/each}
        {#each placed.nodes as node (node.address)}
          {@const r = of.get(node.address)}
          {#if r}
            <foreignObject x={node.x - NODE.width / 2} y={node.y - NODE.height / 2} width={NODE.width} height={NODE.height}>
              <button
                class="flex h-full w-full items-center gap-2 rounded-[5px] border bg-sheet px-2 text-left {node.address === chosen ? 'border-2 border-accent bg-accent-soft' : 'border-line'}"
                aria-pressed={node.address === chosen}
                aria-label="{node.address}, {word(r.seen.state)}"
                onclick={() => choose(node.address)}
              >
                <span class="flex-none" style:opacity={lit(node.address) ? 1 : 0.35}><Dial seen={r.seen} differs={r.differs} size={20} /></span>
                <span class="min-w-0 leading-tight" style:opacity={lit(node.address) ? 1 : 0.45}>
                  <span class="block truncate text-[12.5px] text-ink3"><span class="font-mono">{r.address.split('/')[0]}/</span> <b style="color: var(--{rowHue(r)})">{word(r.seen.state)}</b></span>
                  <span class="block truncate font-mono text-[13.5px]">{r.address.split('/')[1]}</span>
                </span>
              </button>
            </foreignObject>
          {/if}
        {/each}
      </svg>
    </div>
    <aside class="sheet overflow-auto p-3.5">
      {#if row}
        <h2 class="font-mono text-[15px] break-all">{row.address}</h2>
        <p class="text-ink2">{row.title}{row.owner ? ` · ${row.owner}` : ''}</p>
        <p class="mt-2 flex items-center gap-2"><Dial seen={row.seen} differs={row.differs} /><b style="color: var(--{rowHue(row)})">{word(row.seen.state)}</b></p>
        {#if row.seen.says}<p class="mt-1 text-[14px] text-ink2">{row.seen.says}</p>{/if}
        {#if row.cannot}<p class="mt-2 text-[14px] text-ink2">Cannot be acted on: {row.cannot}</p>{/if}
        <p class="mt-3 flex flex-wrap gap-2">{#each row.can as wish (wish)}<a class="btn btn-small" href="/plan?wish={wish}&of={encodeURIComponent(row.address)}">{upper(deed(wish, row.address))}…</a>{/each}</p>
        {#if row.impact.says}<p class="mt-3 text-[14px]"><span class="text-ink3">While it is down:</span> {row.impact.says}</p>{/if}
        <h3 class="mt-4 text-[13px] text-ink3">Proven by</h3>
        <ol class="list-decimal pl-5 text-[14px]">{#each row.ladder as rung, i (i)}<li>{rung}</li>{/each}</ol>
        {#each [['Needs', needs], ['Takes with it', takes]] as const as [title, list] (title)}
          <h3 class="mt-4 text-[13px] text-ink3">{title} ({list.size})</h3>
          <ul class="text-[13.5px]">{#each [...list].sort() as address (address)}<li><button class="hover:underline" onclick={() => choose(address)}><Address {address} /></button></li>{/each}</ul>
        {/each}
      {:else}
        <p class="text-ink2">No service is chosen.</p>
      {/if}
    </aside>
  </div>
</div>
