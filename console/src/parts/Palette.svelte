<!-- Go to any service, run or page by typing. -->
<script lang="ts">
  import { Command, Dialog } from 'bits-ui';

  import { api, type ProcedureSummary } from '../lib/api';
  import { live } from '../lib/live.svelte';
  import { router } from '../lib/router.svelte';
  import { word } from '../lib/states';

  let { open = $bindable(false) }: { open?: boolean } = $props();

  const pages = [
    ['Board', '/'],
    ['Hosts', '/hosts'],
    ['Map', '/map'],
    ['Plan', '/plan'],
    ['Procedures', '/procedures'],
    ['Runs', '/runs'],
  ] as const;

  let typed = $state('');
  /** Of very many, those that what is typed names: the list filters the rest. */
  const MOST = 200;
  const named = <T,>(all: T[], text: (one: T) => string): T[] => {
    if (all.length <= MOST) return all;
    const words = typed.toLowerCase().trim();
    return words.length < 2 ? [] : all.filter((one) => text(one).toLowerCase().includes(words)).slice(0, 60);
  };
  const services = $derived(named(live.board?.services ?? [], (r) => `${r.address} ${r.title}`));
  const hosts = $derived(named(live.board?.hosts ?? [], (h) => `${h.name} ${h.title ?? ''} ${h.address}`));
  let procedures = $state.raw<ProcedureSummary[]>([]);
  $effect(() => {
    if (open) api.procedures().then((all) => (procedures = all), () => (procedures = []));
  });

  function go(to: string): void {
    open = false;
    router.go(to);
  }
</script>

<Dialog.Root bind:open>
  <Dialog.Portal>
    <Dialog.Overlay class="fixed inset-0 z-40 bg-ink/40 dark:bg-ground/80" />
    <Dialog.Content class="sheet fixed top-[12vh] left-1/2 z-50 w-[min(560px,94vw)] -translate-x-1/2 rounded-md shadow-xl">
      <Dialog.Title class="sr-only">Go to</Dialog.Title>
      <Dialog.Description class="sr-only">Type to find a service, a host, a procedure, a run or a page</Dialog.Description>
      <Command.Root class="flex flex-col" label="Go to">
        <Command.Input bind:value={typed} class="border-b border-line bg-transparent px-4 py-3 text-[16px] outline-none" placeholder="Service, host, procedure, run or page" />
        <Command.List class="max-h-[50vh] overflow-auto p-2">
          <Command.Empty class="p-3 text-ink2">Nothing is called that.</Command.Empty>
          {#each pages as [name, to] (to)}
            <Command.Item class="rounded px-3 py-1.5 data-selected:bg-accent-soft" value={name} onSelect={() => go(to)}>{name}</Command.Item>
          {/each}
          {#each live.board?.open_runs ?? [] as run (run.id)}
            <Command.Item class="rounded px-3 py-1.5 data-selected:bg-accent-soft" value="run {run.id} {run.title}" onSelect={() => go(`/runs/${run.id}`)}>
              Run {run.id} · {run.title} · {run.state}
            </Command.Item>
          {/each}
          {#each hosts as host (host.name)}
            <Command.Item class="rounded px-3 py-1.5 data-selected:bg-accent-soft" value="{host.name} {host.title ?? ''} {host.address}" onSelect={() => go(`/hosts/${host.name}`)}><span class="font-mono">{host.name}</span> <span class="text-ink3">{host.title ?? ''} · host</span></Command.Item>
          {/each}
          {#each procedures as p (p.name)}
            <Command.Item class="rounded px-3 py-1.5 data-selected:bg-accent-soft" value="{p.name} {p.title}" onSelect={() => go(`/procedures/${p.name}`)}>{p.title} <span class="text-ink3">procedure</span></Command.Item>
          {/each}
          {#each services as row (row.address)}
            <Command.Item class="flex justify-between rounded px-3 py-1.5 data-selected:bg-accent-soft" value="{row.address} {row.title}" onSelect={() => go(`/map?of=${encodeURIComponent(row.address)}`)}>
              <span><span class="font-mono">{row.address}</span> <span class="text-ink3">{row.title}</span></span>
              <span class="text-ink3">{word(row.seen.state)}</span>
            </Command.Item>
          {/each}
        </Command.List>
      </Command.Root>
    </Dialog.Content>
  </Dialog.Portal>
</Dialog.Root>
