<!-- Empty, loading, broken: what a view says when it has nothing to show. -->
<script lang="ts">
  import type { Snippet } from 'svelte';
  let { title, tone = 'plain', children }: { title: string; tone?: 'plain' | 'alarm'; children?: Snippet } = $props();
</script>

<div class="sheet mx-auto mt-10 max-w-xl p-6" class:border-alarm={tone === 'alarm'} role={tone === 'alarm' ? 'alert' : 'status'}>
  <h2 class="mb-2" class:text-alarm={tone === 'alarm'}>{title}</h2>
  <div class="text-ink2">{@render children?.()}</div>
</div>
