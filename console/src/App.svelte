<script lang="ts">
  import { live } from './lib/live.svelte';
  import { follow, router } from './lib/router.svelte';
  import Board from './pages/Board.svelte';
  import Difference from './pages/Difference.svelte';
  import Host from './pages/Host.svelte';
  import Hosts from './pages/Hosts.svelte';
  import Logs from './pages/Logs.svelte';
  import Map from './pages/Map.svelte';
  import Plan from './pages/Plan.svelte';
  import Report from './pages/Report.svelte';
  import Run from './pages/Run.svelte';
  import Procedure from './pages/Procedure.svelte';
  import Procedures from './pages/Procedures.svelte';
  import Runs from './pages/Runs.svelte';
  import Note from './parts/Note.svelte';
  import Palette from './parts/Palette.svelte';
  import SideNav from './parts/SideNav.svelte';
  import TopBar from './parts/TopBar.svelte';

  let palette = $state(false);
  const run = $derived(/^\/runs\/(\d+)$/.exec(router.path)?.[1]);

  const host = $derived(/^\/hosts\/([\w-]+)$/.exec(router.path)?.[1]);
  const report = $derived(/^\/runs\/(\d+)\/report$/.exec(router.path)?.[1]);
  const procedure = $derived(/^\/procedures\/([\w-]+)$/.exec(router.path)?.[1]);
  const edited = $derived(/^\/procedures\/([\w-]+)\/edit$/.exec(router.path)?.[1]);
  const compared = $derived(/^\/procedures\/([\w-]+)\/difference$/.exec(router.path)?.[1]);

  $effect(() => live.start());

  function keys(event: KeyboardEvent): void {
    if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === 'k') {
      event.preventDefault();
      palette = !palette;
    }
  }
</script>

<svelte:window onkeydown={keys} />

<!-- svelte-ignore a11y_click_events_have_key_events, a11y_no_static_element_interactions -->
<div class="grid h-full print:block grid-cols-[176px_minmax(0,1fr)] grid-rows-[48px_minmax(0,1fr)] max-lg:grid-cols-[minmax(0,1fr)] max-lg:grid-rows-[48px_auto_minmax(0,1fr)]" onclick={follow}>
  <TopBar onpalette={() => (palette = true)} />
  <SideNav />
  <main class="relative overflow-auto px-5 py-4 max-md:px-2">
    {#if live.trouble && !live.board}
      <Note title={live.trouble.problem.title} tone="alarm">
        <p>{live.trouble.message}</p>
        <p class="mt-2">{live.trouble.hint}</p>
      </Note>
    {:else if !live.board}
      <Note title="Looking …" />
    {:else if run}
      <Run id={Number(run)} />
    {:else if router.path === '/runs'}
      <Runs />
    {:else if live.board.edition === 0}
      <Note title="No estate yet">
        <p>Yantro looks after an estate: hosts, services, and what relies on what, described in one TOML file. Write a first one and load it:</p>
        <pre class="mt-3 overflow-auto bg-ground p-3 font-mono text-[13px]">yantro vet estate.toml
yantro load estate.toml</pre>
        <p class="mt-3">Or see one at work: <code class="font-mono">yantro demo</code></p>
      </Note>
    {:else if host}
      {#key host}<Host name={host} />{/key}
    {:else if router.path === '/hosts'}
      <Hosts />
    {:else if report}
      {#key report}<Report id={Number(report)} />{/key}
    {:else if edited}
      <!-- The editor of text is large: it is fetched when it is wanted. -->
      {#await import('./pages/Edit.svelte') then { default: Edit }}
        {#key edited + router.query.get('copy-of')}<Edit name={edited} copyOf={router.query.get('copy-of')} />{/key}
      {/await}
    {:else if compared}
      {#key compared}<Difference name={compared} />{/key}
    {:else if procedure}
      {#key procedure}<Procedure name={procedure} />{/key}
    {:else if router.path === '/procedures'}
      <Procedures />
    {:else if router.path === '/logs'}
      <Logs />
    {:else if router.path === '/map'}
      <Map />
    {:else if router.path === '/plan'}
      <Plan />
    {:else}
      <Board />
    {/if}
  </main>
</div>
<Palette bind:open={palette} />
<div class="sr-only" aria-live="polite">{live.spoken}</div>
