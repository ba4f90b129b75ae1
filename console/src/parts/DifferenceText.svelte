<!-- What two texts differ in, line by line. -->
<script lang="ts">
  import type { Schemas } from '../lib/api';
  let { difference }: { difference: Schemas['Difference'] } = $props();
  const marks = { both: [' ', 'text-ink2', 'in both'], gone: ['−', 'text-alarm bg-alarm-soft', 'gone'], new: ['+', 'text-proven bg-proven-soft', 'new'] } as const;
</script>

{#if difference.gone + difference.new === 0}
  <p class="p-3 text-ink2">Nothing differs.</p>
{:else}
  <div class="font-mono text-[13px]" role="figure" aria-label="{difference.new} lines new, {difference.gone} gone">
    {#each difference.places as place, i (i)}
      {#if i > 0}<div class="px-2 text-ink3">⋮</div>{/if}
      {#each place as line, j (j)}
        {@const [mark, tone, says] = marks[line.side]}
        <div class="flex whitespace-pre-wrap {tone}"><span class="w-[3.4em] flex-none pr-2 text-right text-ink3 select-none">{line.new ?? line.old}</span><span class="w-[1.4em] flex-none font-semibold" title={says}>{mark}</span><span class="min-w-0 break-words">{line.text}</span></div>
      {/each}
    {/each}
  </div>
{/if}
