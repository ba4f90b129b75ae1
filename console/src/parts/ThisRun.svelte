<!-- What one run puts over the estate: settings of single services, its order, how long it may be held. -->
<script lang="ts">
  import type { BeginRequest } from '../lib/api';

  let {
    services,
    overrides,
    prefer,
    heldAtMost,
    onoverrides,
    onprefer,
    onheld,
  }: {
    /** What it acts on. */
    services: string[];
    overrides: BeginRequest['overrides'];
    prefer: BeginRequest['prefer'];
    heldAtMost: string;
    onoverrides: (overrides: BeginRequest['overrides']) => void;
    onprefer: (prefer: BeginRequest['prefer']) => void;
    onheld: (length: string) => void;
  } = $props();

  const set = (address: string, written: string): void => onoverrides({ ...overrides, [address]: { env: {}, args: null, start_patience: null, stop_patience: null, written } });
  function drop(address: string): void {
    const { [address]: _, ...rest } = overrides;
    onoverrides(rest);
  }
  const free = $derived(services.filter((s) => !(s in overrides)));
  const count = $derived(Object.keys(overrides).length + (prefer === 'least-felt' ? 1 : 0) + (heldAtMost ? 1 : 0));
</script>

<details class="mt-2">
  <summary class="cursor-pointer text-ink2">For this run only{#if count > 0}<b class="ml-1.5 text-moving">{count}</b>{/if}</summary>
  <div class="mt-1.5 border-l-2 border-line pl-3">
    <label class="flex items-baseline gap-2 text-ink2"><input type="checkbox" checked={prefer === 'least-felt'} onchange={(e) => onprefer(e.currentTarget.checked ? 'least-felt' : 'soonest')} /> <span>In the order that users feel least, though it may take longer</span></label>
    <label class="mt-1.5 flex items-center gap-2 text-ink2">Put back once held for <input class="field w-[6em] py-0.5" placeholder="never" value={heldAtMost} onchange={(e) => onheld(e.currentTarget.value.trim())} /></label>
    {#each Object.entries(overrides) as [address, over] (address)}
      <label class="mt-2 block">
        <span class="flex items-center gap-2"><span class="font-mono text-[13px]">{address}</span><span class="flex-1"></span><button class="btn btn-small" type="button" onclick={() => drop(address)}>As the estate says</button></span>
        <textarea class="field mt-0.5 w-full font-mono text-[13px]" rows="3" aria-label="Settings of {address} for this run" placeholder={'start.patience = "90s"\nsteady = "5s"'} value={over.written ?? ''} oninput={(e) => set(address, e.currentTarget.value)}></textarea>
      </label>
    {/each}
    {#if free.length > 0}
      <select class="field mt-2 py-0.5" aria-label="Other settings for" value="" onchange={(e) => (set(e.currentTarget.value, ''), (e.currentTarget.value = ''))}>
        <option value="">Other settings for …</option>
        {#each free as address (address)}<option>{address}</option>{/each}
      </select>
    {/if}
  </div>
</details>
