<!-- The procedures of the estate. -->
<script lang="ts">
  import { api, type ProcedureSummary } from '../lib/api';
  import { live } from '../lib/live.svelte';
  import Note from '../parts/Note.svelte';

  let all = $state.raw<ProcedureSummary[] | null>(null);
  $effect(() => {
    void live.board?.edition;
    api.procedures().then((p) => (all = p), () => (all = []));
  });
</script>

<h1>Procedures</h1>
{#if all === null}
  <Note title="Looking …" />
{:else if all.length === 0}
  <Note title="No procedures yet">
    <p>A procedure mixes services with work: clients down, a backup looked at, a database stopped, patched, started, everything as it was found. Write one into the estate:</p>
    <pre class="mt-3 overflow-auto bg-ground p-3 font-mono text-[13px]">[[procedure.patch.steps]]
stop = ["fares-db"]

[[procedure.patch.steps]]
work = ["bin/patch"]

[[procedure.patch.steps]]
bring_back = ["all"]</pre>
  </Note>
{:else}
  <ul class="mt-3 flex flex-col gap-2">
    {#each all as p (p.name)}
      <li class="sheet px-4 py-3">
        <a class="text-[17px] font-semibold text-accent underline" href="/procedures/{p.name}">{p.title}</a>
        <span class="ml-2 font-mono text-[13px] text-ink3">{p.name}</span>
        <span class="float-right text-ink3">{p.lines} line{p.lines === 1 ? '' : 's'}{p.asks.length > 0 ? ` · asks ${p.asks.join(', ')}` : ''}</span>
        {#if p.purpose}<p class="mt-1 max-w-[80ch] text-ink2">{p.purpose}</p>{/if}
      </li>
    {/each}
  </ul>
{/if}
