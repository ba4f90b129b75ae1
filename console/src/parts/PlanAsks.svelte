<!-- What stands in the way of a plan, and what must be said in so many words. -->
<script lang="ts">
  import type { PlanView } from '../lib/api';

  let { plan, below, standing, freezes = [], vouched = [], onbelow, onstanding, onfreezes, onvouched = () => {} }: { plan: Pick<PlanView, 'obstacles' | 'asks'>; below: string[]; standing: string[]; onbelow: (list: string[]) => void; onstanding: (list: string[]) => void; freezes?: string[]; onfreezes: (list: string[]) => void; vouched?: string[]; onvouched?: (list: string[]) => void } = $props();

  const toggled = (list: string[], item: string): string[] => (list.includes(item) ? list.filter((i) => i !== item) : [...list, item]);
</script>

{#each plan.obstacles as obstacle (`${obstacle.line} ${obstacle.why}`)}
  <p class="mt-3 border border-alarm bg-alarm-soft px-3.5 py-2" role="alert"><b>Not possible:</b> {obstacle.line ? `line ${obstacle.line}: ` : ''}{obstacle.why}. <span class="text-ink2">{obstacle.mend[0]?.toUpperCase()}{obstacle.mend.slice(1)}.</span></p>
{/each}
{#each plan.asks as ask (JSON.stringify(ask))}
  <div class="mt-3 border border-moving bg-moving-soft px-3.5 py-2">
    {#if ask.kind === 'below-keep-up'}
      <p>{ask.says}.</p>
      <label class="mt-1 flex items-center gap-2"><input type="checkbox" onchange={() => onbelow(toggled(below, ask.group))} /> Yes: group <b>{ask.group}</b> may fall below that in this run</label>
    {:else if ask.kind === 'in-freeze'}
      <p>{ask.says}.</p>
      <label class="mt-1 flex items-center gap-2"><input type="checkbox" onchange={() => onfreezes(toggled(freezes, ask.freeze))} /> Yes: begin it inside <b>{ask.freeze}</b> all the same, with a reason</label>
    {:else if ask.kind === 'left-standing'}
      <p>{ask.says}. Each must be named:</p>
      {#each ask.addresses as address (address)}
        <label class="mt-1 flex items-center gap-2"><input type="checkbox" onchange={() => onstanding(toggled(standing, address))} /> <span class="font-mono">{address}</span></label>
      {/each}
    {:else if ask.kind === 'against-vouch'}
      <p>{ask.says}.</p>
      <label class="mt-1 flex items-center gap-2"><input type="checkbox" onchange={() => onvouched(toggled(vouched, ask.address))} /> Yes: take <span class="font-mono">{ask.address}</span> as the lines before left it, against what is seen</label>
    {:else}
      <p>{ask.says}.</p>
      <label class="mt-1 flex items-center gap-2"><input type="checkbox" onchange={() => onstanding(toggled(standing, ask.address))} /> Yes: <span class="font-mono">{ask.address}</span> may stand as it does</label>
    {/if}
  </div>
{/each}
{#if below.length > 0 || standing.length > 0 || freezes.length > 0 || vouched.length > 0}
  <p class="mt-3 flex flex-wrap items-center gap-2 text-ink2">
    Said in so many words:
    {#each freezes as freeze (freeze)}<button class="btn btn-small" onclick={() => onfreezes(freezes.filter((f) => f !== freeze))}>inside {freeze} · take back</button>{/each}
    {#each below as group (group)}<button class="btn btn-small" onclick={() => onbelow(below.filter((g) => g !== group))}>group {group} may fall below · take back</button>{/each}
    {#each vouched as address (address)}<button class="btn btn-small font-mono" onclick={() => onvouched(vouched.filter((a) => a !== address))}>{address} as vouched · take back</button>{/each}
    {#each standing as address (address)}<button class="btn btn-small font-mono" onclick={() => onstanding(standing.filter((a) => a !== address))}>{address} · take back</button>{/each}
  </p>
{/if}
