<!-- A run's steps as a table: the same facts as the score, reachable by keyboard. -->
<script lang="ts">
  import type { RunView } from '../lib/api';
  import { does, stepHue, stepWord } from '../lib/states';
  import { clock, ms } from '../lib/time';
  import { LONG, inView, type View } from '../lib/windowed';
  import Address from './Address.svelte';

  let { run, shown, onchoose }: { run: RunView; shown: number | null; onchoose: (step: number) => void } = $props();
  const ROW = 29;
  let view = $state.raw<View>({ top: 0, height: 800 });
  const long = $derived(run.steps.length > LONG);
  const drawn = $derived<[number, number]>(long ? [Math.max(0, Math.floor(view.top / ROW) - 12), Math.min(run.steps.length, Math.ceil((view.top + view.height) / ROW) + 12)] : [0, run.steps.length]);
  const took = (from?: string | null, to?: string | null): string => (from && to ? `${((ms(to) - ms(from)) / 1000).toFixed(1)} s` : '');
</script>

<table class="w-full border-collapse">
  <thead>
    <tr class="text-left text-[13.5px] text-ink3 [&>th]:px-2.5 [&>th]:py-1 [&>th]:font-medium">
      <th class="w-[56px]">Step</th><th class="w-[72px]">Does</th><th>Of</th><th class="w-[130px]">State</th><th class="w-[90px]">Begun</th><th class="w-[80px]">Took</th><th class="w-[80px]">Usually</th>
    </tr>
  </thead>
  <tbody use:inView={(v) => (view = v)}>
    {#if drawn[0] > 0}<tr style="height: {drawn[0] * ROW}px" aria-hidden="true"><td colspan="7"></td></tr>{/if}
    {#each run.steps.slice(drawn[0], drawn[1]) as step (step.planned.id)}
      <tr style={long ? `height: ${ROW}px` : undefined} class="border-t border-line2 [&>td]:px-2.5 [&>td]:py-[3px]" class:bg-accent-soft={step.planned.id === shown}>
        <td><button class="text-accent underline" onclick={() => onchoose(step.planned.id)} aria-label="Evidence of step {step.planned.id}">{step.planned.id}</button></td>
        <td>{does(step.planned)}</td>
        <td>{#if step.planned.address}<Address address={step.planned.address} />{:else}{step.says}{/if}{#if step.planned.part === 'put-back'}<span class="ml-2 text-[13px] text-moving">the way back</span>{:else if step.planned.part === 'divert'}<span class="ml-2 text-[13px] text-moving">took over</span>{/if}</td>
        <td class="font-semibold" style="color: var(--{stepHue(step.now)})">{stepWord(step.now)}</td>
        <td class="text-ink2">{step.now.began_at ? clock(ms(step.now.began_at)) : ''}</td>
        <td class="text-ink2">{took(step.now.began_at, step.now.ended_at)}</td>
        <td class="text-ink3">{(step.planned.usual_ms / 1000).toFixed(1)} s</td>
      </tr>
    {/each}
    {#if drawn[1] < run.steps.length}<tr style="height: {(run.steps.length - drawn[1]) * ROW}px" aria-hidden="true"><td colspan="7"></td></tr>{/if}
  </tbody>
</table>
