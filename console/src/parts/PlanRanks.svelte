<!-- A sequence in ranks: what is in one rank goes side by side. -->
<script lang="ts">
  import type { PlanView, Step } from '../lib/api';
  import { does, word } from '../lib/states';
  import { roughly } from '../lib/time';
  import Address from './Address.svelte';

  let { plan }: { plan: PlanView } = $props();

  const ranks = $derived.by(() => {
    const all: Step[][] = [];
    for (const step of plan.sequence.steps) (all[step.rank] ??= []).push(step);
    return all;
  });
  const stops = $derived(new Set(plan.sequence.steps.filter((s) => s.kind === 'stop').map((s) => s.address)));
  const vouched = $derived(new Set(plan.vouched ?? []));
  const already = (s: Step): boolean => (s.kind === 'stop' && s.found === 'down') || (s.kind === 'start' && s.found === 'proven' && !stops.has(s.address));
  const why = (s: Step): string => (s.why.kind === 'relies-on' ? `relies on ${s.why.of}` : s.why.kind === 'needed-by' ? `needed by ${s.why.of}` : s.why.kind === 'written' ? `line ${s.why.of}` : s.why.kind === 'takes-back' ? `takes back step ${s.why.of}` : 'chosen');
</script>

<ol class="mt-4 flex flex-col gap-2">
  {#each ranks as rank, i (i)}
    <li class="flex gap-3">
      <span class="w-[22px] flex-none pt-1.5 text-right text-[13px] text-ink3" aria-label="rank {i + 1}">{i + 1}</span>
      <ul class="grid flex-1 grid-cols-[repeat(auto-fill,minmax(262px,1fr))] gap-1.5">
        {#each rank as step (step.id)}
          <li class="sheet border-l-[3px] px-2.5 py-1 {step.critical ? 'border-l-accent' : 'border-l-line'}">
            <span class="flex items-baseline justify-between gap-2">
              <span class="truncate"><span class={step.kind === 'stop' ? 'text-rest' : 'font-semibold'}>{does(step)}</span> {#if step.address}<Address address={step.address} />{:else}{step.settings?.title ?? ''}{/if}</span>
              <span class="flex-none text-[13px] text-ink3">{vouched.has(step.id) ? 'vouched for' : already(step) ? 'so already' : step.usual_ms === 0 ? '' : step.slow_ms > step.usual_ms * 1.2 ? `${roughly(step.usual_ms)}–${roughly(step.slow_ms)}` : roughly(step.usual_ms)}</span>
            </span>
            <span class="block truncate text-[13px] text-ink3">{why(step)}{step.found === 'proven' || !step.address ? '' : ` · found ${word(step.found)}`}</span>
          </li>
        {/each}
      </ul>
    </li>
  {/each}
</ol>
<p class="mt-3 text-[13.5px] text-ink3">Those marked on the left are what the run's length hangs on.</p>
{#if (plan.refused_now ?? []).length > 0}
  <h2 class="mt-4 text-alarm">Refused before its first act, as things stand</h2>
  <ul class="mt-1">{#each plan.refused_now ?? [] as why (why)}<li>{why}</li>{/each}</ul>
{/if}
{#if (plan.remarks ?? []).length > 0}
  <h2 class="mt-4">Worth knowing</h2>
  <ul class="mt-1 text-ink2">{#each plan.remarks ?? [] as remark (remark)}<li>{remark}</li>{/each}</ul>
{/if}
{#if plan.left_alone.length > 0}
  <h2 class="mt-4">Left alone</h2>
  <ul class="mt-1 text-ink2">{#each plan.left_alone as left (left.address)}<li><Address address={left.address} /> {left.why}</li>{/each}</ul>
{/if}
