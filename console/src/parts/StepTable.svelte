<!-- A run's steps as a table: the same facts as the score, reachable by keyboard. -->
<script lang="ts">
  import type { RunView } from '../lib/api';
  import { does, stepHue, stepWord } from '../lib/states';
  import { clock, ms } from '../lib/time';
  import Address from './Address.svelte';

  let { run, shown, onchoose }: { run: RunView; shown: number | null; onchoose: (step: number) => void } = $props();
  const took = (from?: string | null, to?: string | null): string => (from && to ? `${((ms(to) - ms(from)) / 1000).toFixed(1)} s` : '');
</script>

<table class="w-full border-collapse">
  <thead>
    <tr class="text-left text-[13.5px] text-ink3 [&>th]:px-2.5 [&>th]:py-1 [&>th]:font-medium">
      <th class="w-[56px]">Step</th><th class="w-[72px]">Does</th><th>Of</th><th class="w-[130px]">State</th><th class="w-[90px]">Begun</th><th class="w-[80px]">Took</th><th class="w-[80px]">Usually</th>
    </tr>
  </thead>
  <tbody>
    {#each run.steps as step (step.planned.id)}
      <tr class="border-t border-line2 [&>td]:px-2.5 [&>td]:py-[3px]" class:bg-accent-soft={step.planned.id === shown}>
        <td><button class="text-accent underline" onclick={() => onchoose(step.planned.id)} aria-label="Evidence of step {step.planned.id}">{step.planned.id}</button></td>
        <td>{does(step.planned)}</td>
        <td>{#if step.planned.address}<Address address={step.planned.address} />{:else}{step.says}{/if}{#if step.planned.part === 'put-back'}<span class="ml-2 text-[13px] text-moving">the way back</span>{:else if step.planned.part === 'divert'}<span class="ml-2 text-[13px] text-moving">took over</span>{/if}</td>
        <td class="font-semibold" style="color: var(--{stepHue(step.now)})">{stepWord(step.now)}</td>
        <td class="text-ink2">{step.now.began_at ? clock(ms(step.now.began_at)) : ''}</td>
        <td class="text-ink2">{took(step.now.began_at, step.now.ended_at)}</td>
        <td class="text-ink3">{(step.planned.usual_ms / 1000).toFixed(1)} s</td>
      </tr>
    {/each}
  </tbody>
</table>
