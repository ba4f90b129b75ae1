<!-- Who and where, always: the estate, what it stands for, the run in hand, the time, and whether we are in touch. -->
<script lang="ts">
  import { live } from '../lib/live.svelte';
  import { runHue } from '../lib/states';
  import { theme } from '../lib/theme.svelte';
  import { age, clock } from '../lib/time';
  import { arc } from '../lib/dial';

  let { onpalette }: { onpalette: () => void } = $props();

  const board = $derived(live.board);
  const run = $derived(board?.open_runs.find((r) => r.state === 'held') ?? board?.open_runs[0]);
  const real = $derived(board?.stands_for === 'production');
</script>

<header class="sheet print:hidden col-span-2 max-lg:col-span-1 flex items-center gap-4 max-md:gap-2.5 overflow-hidden border-0 border-b px-4 whitespace-nowrap" class:border-t-4={real} class:border-t-alarm={real}>
  <a href="/" class="flex w-[142px] max-md:w-auto items-center gap-2 text-[17px] font-bold">
    <svg width="22" height="22" viewBox="0 0 24 24" aria-hidden="true" fill="none" stroke="var(--accent)" stroke-width="3">
      <path d={arc(9, 0.2, 2)} /><path d={arc(9, 2.3, 4.1)} /><path d={arc(9, 4.4, 6.1)} opacity=".35" />
      <circle cx="12" cy="12" r="3.4" fill="var(--accent)" stroke="none" />
    </svg>Yantro
  </a>
  {#if board && board.edition > 0}
    <span class="truncate font-semibold">{board.estate}</span>
    <span class="rounded-[5px] border border-ink2 px-2 text-ink2" class:border-alarm={real} class:text-alarm={real}>{board.stands_for}</span>
    <span class="text-ink2 max-lg:hidden">edition {board.edition}</span>
  {/if}
  <span class="flex-1"></span>
  {#if board?.standstill}<span class="rounded-[5px] border border-alarm px-2 text-alarm">standstill</span>{/if}
  {#if run}
    <a href="/runs/{run.id}" class="flex min-w-0 items-center gap-2 rounded-[5px] border px-3 py-0.5" style="border-color: var(--{runHue(run.state)})">
      <span class="truncate">Run {run.id} · <span style="color: var(--{runHue(run.state)})" class="font-semibold">{run.state}</span> · {run.title} · {run.steps_ended} of {run.steps}</span>
    </a>
  {/if}
  {#if live.cut}
    <span class="rounded-[5px] bg-alarm-soft px-2 font-semibold text-alarm" role="status">not in touch for {age(live.inTouchAt, live.now)}</span>
  {:else}
    <span class="text-ink2 max-md:hidden" title="in touch with the server">{clock(live.serverNow)}</span>
  {/if}
  <button class="btn btn-small text-ink2" onclick={() => theme.next()} aria-label="Light or dark: {theme.choice}">{theme.choice === 'system' ? 'Auto' : theme.choice === 'dark' ? 'Dark' : 'Light'}</button>
  <button class="btn btn-small text-ink2" onclick={onpalette}>Go to… <kbd class="ml-1 rounded max-md:hidden border border-line px-1 font-mono text-[13px] text-ink3">Ctrl K</kbd></button>
</header>
