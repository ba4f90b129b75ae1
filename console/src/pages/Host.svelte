<!-- One host looked through: what its manager runs and what listens, and what of it is taken into the estate. -->
<script lang="ts">
  import { Refused, api, type FoundUnit, type HostSurvey } from '../lib/api';
  import { byHost } from '../lib/hosts';
  import { live } from '../lib/live.svelte';
  import { router } from '../lib/router.svelte';
  import Confirm from '../parts/Confirm.svelte';
  import HostLine from '../parts/HostLine.svelte';
  import Note from '../parts/Note.svelte';
  import UnitLine from '../parts/UnitLine.svelte';

  let { name }: { name: string } = $props();

  const host = $derived(live.board?.hosts.find((h) => h.name === name));
  const isOut = $derived(!!host?.link && !host.link.up);
  const here = $derived(live.board ? byHost(live.board).get(name) : undefined);
  const show = $derived(router.query.get('show'));
  let found = $state.raw<HostSurvey | null>(null);
  let refused = $state.raw<Refused | null>(null);
  let chosen = $state.raw<string[]>([]);
  let toml = $state('');
  let leftOut = $state.raw<string[]>([]);
  let looking = $state(false);
  let asking = $state(false);
  let adopted = $state('');

  async function look(asked = false): Promise<void> {
    looking = true;
    try {
      // Whoever asks for a host that is out of reach wants it tried now.
      if (asked && host?.link && !host.link.up) await api.reach([name]);
      [found, refused] = [await api.found(name, []), null];
    } catch (error) {
      if (!(error instanceof Refused)) throw error;
      [found, refused] = [null, error];
    } finally {
      looking = false;
    }
  }
  // Looked through anew when its link comes, or the estate changed.
  const reach = $derived(`${host?.link?.up ?? true} ${live.board?.edition ?? 0}`);
  $effect(() => {
    void reach;
    void look();
  });
  $effect(() => {
    const wanted = chosen;
    if (wanted.length === 0) {
      toml = '';
      leftOut = [];
      return;
    }
    let gone = false;
    api.found(name, wanted).then(
      (f) => {
        if (!gone) [toml, leftOut] = [f.toml, f.left_out ?? []];
      },
      (e: unknown) => {
        if (!gone && e instanceof Refused) refused = e;
      },
    );
    return () => {
      gone = true;
    };
  });

  const units = $derived(found?.survey.units ?? []);
  const listed = $derived(units.filter((u) => (show === 'everything' ? true : show === 'mine' ? !!u.described_as : !u.plumbing)));
  const count = (which: (u: FoundUnit) => boolean): number => units.filter(which).length;
  const views = $derived([
    ['', 'Services', count((u) => !u.plumbing)],
    ['mine', 'Only described', count((u) => !!u.described_as)],
    ['everything', 'Everything', units.length],
  ] as const);
  const toggle = (unit: string): void => void (chosen = chosen.includes(unit) ? chosen.filter((u) => u !== unit) : [...chosen, unit]);

  async function adopt(why: string): Promise<string | null> {
    try {
      const outcome = await api.adopt(name, chosen, why);
      adopted = [`Edition ${outcome.edition} describes ${outcome.added.join(', ')}.`, ...(outcome.remarks ?? []).map((r) => `${r[0]?.toUpperCase()}${r.slice(1)}.`)].join(' ');
      chosen = [];
      void live.refresh();
      return null;
    } catch (error) {
      if (error instanceof Refused) return `${error.message}. ${error.hint}`;
      throw error;
    }
  }
</script>

<div class="flex flex-wrap items-center gap-3">
  <h1><a class="text-accent underline" href="/hosts">Hosts</a> <span class="font-normal text-ink3">/</span> {name}</h1>
  <span class="flex-1"></span>
  <div class="flex" role="group" aria-label="What is shown">
    {#each views as [key, title, n] (key)}
      <button class="btn rounded-none first:rounded-l-[5px] last:rounded-r-[5px] not-first:border-l-0 aria-pressed:bg-accent-soft aria-pressed:text-accent" aria-pressed={(show ?? '') === key} onclick={() => router.go(`/hosts/${name}${key ? `?show=${key}` : ''}`, true)}>{title} <span class="text-ink3">{n}</span></button>
    {/each}
  </div>
  <button class="btn" onclick={() => look(true)} disabled={looking}>{looking ? (isOut ? 'Trying …' : 'Looking …') : isOut ? 'Try now' : 'Look again'}</button>
</div>

{#if !host}
  <Note title="No such host"><p>The estate has no host called {name}. <a class="text-accent underline" href="/hosts">All hosts</a></p></Note>
{:else}
  <table class="sheet mt-3 w-full table-fixed border-collapse max-md:block" aria-label="The host itself">
    <colgroup class="max-md:hidden"><col class="w-[216px] max-lg:w-[34%]" /><col class="w-[118px]" /><col /><col class="w-[124px]" /><col class="w-[424px] max-lg:w-[190px]" /></colgroup>
    <tbody class="max-md:block"><HostLine {host} itself={here?.itself} services={here?.services ?? []} alone /></tbody>
  </table>
  {#if adopted}<p class="mt-3 border border-line bg-proven-soft px-3 py-2" role="status">{adopted} <a class="text-accent underline" href="/?find={encodeURIComponent(`${name}/`)}">See it on the board</a></p>{/if}
  {#if refused}
    <p class="sheet mt-3 border-alarm p-4" role="alert"><b class="text-alarm">{refused.problem.title}.</b> {refused.message}. {refused.hint}</p>
  {:else if !found}
    <Note title="Looking through {name} …" />
  {:else}
    <div class="mt-3 grid gap-4 {chosen.length > 0 ? 'grid-cols-[minmax(0,1fr)_400px] max-lg:grid-cols-1' : ''}">
      <section class="min-w-0">
        <table class="sheet w-full table-fixed border-collapse">
          <thead>
            <tr class="text-left text-[13.5px] text-ink3 [&>th]:px-2.5 [&>th]:py-1 [&>th]:font-medium">
              <th class="w-[34px]"><span class="sr-only">Take it in</span></th><th>What its manager runs</th><th class="w-[150px] max-md:w-[118px]">Its word</th><th class="w-[92px] max-md:w-[80px]">Listens on</th><th class="w-[22%] max-md:hidden">In the estate</th>
            </tr>
          </thead>
          <tbody>
            {#each listed as unit (unit.unit)}<UnitLine {unit} chosen={chosen.includes(unit.unit)} ontoggle={() => toggle(unit.unit)} />{:else}<tr><td colspan="5" class="p-4 text-ink2">{show === 'mine' ? 'Nothing of it is described yet.' : 'Its manager runs no services besides the system’s own.'}</td></tr>{/each}
          </tbody>
        </table>
        {#if found.survey.others.length > 0}
          <h2 class="mt-4">Listening, and no service of its manager</h2>
          <ul class="mt-1 columns-2 text-ink2 max-md:columns-1">
            {#each found.survey.others as port (`${port.on}:${port.port}`)}<li><span class="font-mono">{port.on}:{port.port}</span> {port.process ?? 'held by a process that cannot be seen'}</li>{/each}
          </ul>
        {/if}
      </section>
      {#if chosen.length > 0}
        <section class="min-w-0" aria-label="How it would be described">
          <div class="flex items-baseline gap-3"><h2>How it would be described</h2><span class="flex-1"></span><button class="btn btn-main" onclick={() => (asking = true)} disabled={!toml}>Take {chosen.length === 1 ? 'it' : `these ${chosen.length}`} in…</button></div>
          <pre class="sheet mt-2 max-h-[60vh] overflow-auto p-3 font-mono text-[13px] whitespace-pre-wrap">{toml || 'Working it out …'}</pre>
          {#each leftOut as left (left)}<p class="mt-2 text-[14px] text-ailing">{left}.</p>{/each}
          <p class="mt-2 text-[14px] text-ink3">Ports become rungs, what its manager says it needs becomes a relation. Change the rest in the estate’s file.</p>
        </section>
      {/if}
    </div>
  {/if}
{/if}
<Confirm
  bind:open={asking}
  title="Take into the estate: {chosen.join(', ')}"
  says="{live.board?.estate} · {live.board?.stands_for}. A new edition describes {chosen.length === 1 ? 'it' : 'them'} on {name}. Nothing is started or stopped by that."
  action="Make the edition"
  onconfirm={adopt}
/>
