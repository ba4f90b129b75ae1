<!-- The procedures of the estate. -->
<script lang="ts">
  import { api, type ProcedureSummary } from '../lib/api';
  import { live } from '../lib/live.svelte';
  import { router } from '../lib/router.svelte';
  import Note from '../parts/Note.svelte';

  let all = $state.raw<ProcedureSummary[] | null>(null);
  let called = $state('');
  let copyOf = $state('');
  let taken = $state(false);

  function write(event: Event): void {
    event.preventDefault();
    const name = called.trim().toLowerCase();
    taken = all?.some((p) => p.name === name) ?? false;
    if (!taken) router.go(`/procedures/${name}/edit${copyOf ? `?copy-of=${copyOf}` : ''}`);
  }
  $effect(() => {
    void live.board?.edition;
    api.procedures().then((p) => (all = p), () => (all = []));
  });
</script>

<div class="flex flex-wrap items-center gap-3">
  <h1>Procedures</h1>
  <span class="flex-1"></span>
  <form class="flex flex-wrap items-center gap-2" onsubmit={write}>
    <label class="flex items-center gap-2 text-ink2">New, called <input class="field w-[13em] py-0.5" placeholder="winter-piers" bind:value={called} pattern="[A-Za-z0-9_\-]+" title="letters, digits, - and _" required /></label>
    <label class="flex items-center gap-2 text-ink2">as a copy of
      <select class="field py-0.5" bind:value={copyOf}><option value="">none</option>{#each all ?? [] as p (p.name)}<option value={p.name}>{p.name}</option>{/each}</select>
    </label>
    <button class="btn" type="submit">Write it</button>
  </form>
</div>
{#if taken}<p class="mt-2 text-alarm" role="alert">There is a procedure {called.trim().toLowerCase()} already: edit that, or choose another name.</p>{/if}
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
        <a class="btn btn-small float-right ml-3" href="/procedures/{p.name}/edit" aria-label="Edit {p.name}">Edit</a>
        <span class="float-right text-ink3">{p.lines} line{p.lines === 1 ? '' : 's'}{p.asks.length > 0 ? ` · asks ${p.asks.join(', ')}` : ''}</span>
        {#if p.purpose}<p class="mt-1 max-w-[80ch] text-ink2">{p.purpose}</p>{/if}
      </li>
    {/each}
  </ul>
{/if}
