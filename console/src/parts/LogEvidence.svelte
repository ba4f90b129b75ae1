<!-- The lines of one log that matched, in their context. -->
<script lang="ts">
  import type { Schemas } from '../lib/api';

  let { log }: { log: Schemas['LogEvidence'] } = $props();
  const seen = $derived(log.count.wanted.filter((n) => n > 0).length);
  const forbidden = $derived(log.count.forbidden.reduce((a, b) => a + b, 0));
</script>

<div class="mb-3">
  <div class="flex flex-wrap justify-between gap-x-4 text-ink3">
    <span class="min-w-0 truncate"><span class="font-mono text-ink" title={log.source}>{log.source.split('/').slice(-2).join('/')}</span> from this act on, {log.count.lines} lines{log.complete ? '' : ', not complete'}</span>
    <span>must see {seen} of {log.count.wanted.length} · must not see <span class:text-alarm={forbidden > 0} class:font-semibold={forbidden > 0}>{forbidden}</span></span>
  </div>
  <div class="mt-1 overflow-x-auto font-mono text-[13px] leading-[1.55]">
    {#each log.hits.slice(0, 40) as hit, i (i)}
      {#each hit.before as line, k (k)}<div class="whitespace-pre text-ink2">{line}</div>{/each}
      <div class="whitespace-pre text-ink {hit.meaning === 'forbidden' ? 'bg-alarm-soft' : 'bg-proven-soft'}"><span class="sr-only">{hit.meaning}: </span>{hit.text}</div>
      {#each hit.after as line, k (k)}<div class="whitespace-pre text-ink2">{line}</div>{/each}
      {#if i + 1 < log.hits.length}<div class="text-ink3">…</div>{/if}
    {/each}
  </div>
</div>
