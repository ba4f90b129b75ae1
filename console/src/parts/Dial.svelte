<!-- One mark for a service's state everywhere. A word always stands with it, so it is hidden from readers. -->
<script lang="ts">
  import type { Schemas } from '../lib/api';
  import { arcs } from '../lib/dial';
  import { hue as hueOf } from '../lib/states';

  let { seen, differs = false, size = 20, hue }: { seen: Pick<Schemas['Seen'], 'state' | 'rungs' | 'rungs_climbed' | 'rung_against'>; differs?: boolean; size?: number; hue?: string } = $props();

  const color = $derived(`var(--${hue ?? hueOf(seen.state, differs)})`);
  const rings = $derived(arcs(seen.rungs));
  const climbed = $derived(seen.state === 'proven' ? rings.length : seen.rungs_climbed);
</script>

<svg width={size} height={size} viewBox="0 0 24 24" class="flex-none" aria-hidden="true">
  {#if seen.state === 'out-of-reach'}
    <circle cx="12" cy="12" r="8.2" fill="none" stroke={color} stroke-width="2.2" stroke-dasharray="3.1 3.3" />
  {:else if seen.state === 'unknown'}
    <circle cx="12" cy="12" r="8.2" fill="none" stroke={color} stroke-width="2" stroke-dasharray="0.1 3.4" stroke-linecap="round" />
  {:else if seen.state === 'down'}
    <circle cx="12" cy="12" r="8.2" fill="none" stroke={color} stroke-width="1.5" />
  {:else}
    {#each rings as d, i (i)}
      {@const failing = seen.state === 'ailing' && i === (seen.rung_against ?? -1)}
      <path {d} fill="none" stroke={failing ? 'var(--ailing)' : i < climbed ? color : 'var(--line)'} stroke-width={failing ? 4.4 : 3} />
    {/each}
    {#if seen.state === 'proven'}<circle cx="12" cy="12" r="3.6" fill={color} />{/if}
    {#if seen.state === 'ailing'}<rect x="8" y="10.8" width="8" height="2.4" fill={color} />{/if}
    {#if seen.state === 'rising'}<path d="M12 8.6l3.2 4.4h-6.4z" fill={color} />{/if}
    {#if seen.state === 'sinking'}<path d="M12 15.4l3.2-4.4h-6.4z" fill={color} />{/if}
  {/if}
  {#if differs}<path d="M19.6 2.2l2.6 2.6" stroke="var(--alarm)" stroke-width="2.4" stroke-linecap="round" />{/if}
</svg>
