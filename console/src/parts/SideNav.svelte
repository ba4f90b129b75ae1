<script lang="ts">
  import { live } from '../lib/live.svelte';
  import { router } from '../lib/router.svelte';

  const places = [
    ['Board', '/'],
    ['Hosts', '/hosts'],
    ['Map', '/map'],
    ['Plan', '/plan'],
    ['Procedures', '/procedures'],
    ['Runs', '/runs'],
    ['Logs', '/logs'],
  ] as const;
  const here = (to: string): boolean => (to === '/' ? router.path === '/' && !router.query.has('show') : router.path.startsWith(to));
  const differing = $derived(live.board?.services.filter((s) => s.differs).length ?? 0);
  const owed = $derived(live.board?.services.filter((s) => s.restart_owed).length ?? 0);
  const open = $derived(live.board?.open_runs.length ?? 0);
</script>

<nav class="sheet print:hidden flex flex-col gap-0.5 border-0 border-r p-2.5 max-lg:flex-row max-lg:overflow-x-auto max-lg:border-r-0 max-lg:border-b max-lg:p-1 max-lg:whitespace-nowrap" aria-label="Pages">
  {#each places as [name, to] (to)}
    <a href={to} class="flex justify-between gap-1.5 rounded-[5px] px-2.5 py-1.5 text-ink2 hover:bg-ground aria-[current]:bg-accent-soft aria-[current]:font-semibold aria-[current]:text-accent" aria-current={here(to) ? 'page' : undefined}>
      {name}{#if to === '/runs' && open > 0}<span>{open}</span>{/if}
    </a>
  {/each}
  <span class="px-2.5 pt-3.5 pb-1 text-[13px] text-ink3 max-lg:hidden">To look at</span>
  {#each [['Differs', 'differs', differing], ['Restart owed', 'owed', owed]] as const as [name, show, n] (show)}
    <a href="/?show={show}" class="flex justify-between gap-1.5 rounded-[5px] px-2.5 py-1.5 text-ink2 hover:bg-ground aria-[current]:bg-accent-soft aria-[current]:font-semibold aria-[current]:text-accent" aria-current={router.path === '/' && router.query.get('show') === show ? 'page' : undefined}>
      {name}<span class:font-semibold={n > 0} class:text-alarm={n > 0 && show === 'differs'}>{n}</span>
    </a>
  {/each}
</nav>
