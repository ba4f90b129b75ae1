<!-- A procedure beside itself in another edition, or beside another. -->
<script lang="ts">
  import { Refused, api, type ProcedureDifference, type ProcedureSummary, type Schemas } from '../lib/api';
  import { live } from '../lib/live.svelte';
  import { router } from '../lib/router.svelte';
  import { word } from '../lib/states';
  import { day, ms } from '../lib/time';
  import DifferenceText from '../parts/DifferenceText.svelte';
  import Note from '../parts/Note.svelte';

  let { name }: { name: string } = $props();

  let found = $state.raw<ProcedureDifference | null>(null);
  let refused = $state.raw<Refused | null>(null);
  let editions = $state.raw<Schemas['EditionRow'][]>([]);
  let procedures = $state.raw<ProcedureSummary[]>([]);

  const at = (key: string): string => router.query.get(key) ?? '';
  $effect(() => {
    void live.board?.edition;
    Promise.all([api.editions(), api.procedures()]).then(([e, p]) => ([editions, procedures] = [e, p]), () => {});
  });
  $effect(() => {
    void live.board?.edition;
    api.difference(name, router.query.size ? `?${router.query.toString()}` : '').then(
      (d) => ([found, refused] = [d, null]),
      (e: unknown) => (refused = e instanceof Refused ? e : null),
    );
  });
  function choose(key: string, value: string): void {
    const query = new URLSearchParams(router.query);
    if (value) query.set(key, value);
    else query.delete(key);
    router.go(`${router.path}${query.size ? `?${query.toString()}` : ''}`, true);
  }
  const hues: Record<string, string> = { same: 'text-ink3', moved: 'text-moving', changed: 'text-moving', gone: 'text-alarm', new: 'text-proven' };
  const marks: Record<string, string> = { same: '', moved: '↕', changed: '≠', gone: '−', new: '+' };
</script>

<div class="flex flex-wrap items-center gap-3">
  <h1>What changed</h1>
  <a class="text-accent underline" href="/procedures/{name}">{name}</a>
  <span class="flex-1"></span>
  <a class="btn" href="/procedures/{name}/edit">Edit</a>
</div>
<div class="mt-2 flex flex-wrap items-center gap-3 text-ink2">
  <label class="flex items-center gap-2">From edition
    <select class="field py-0.5" value={at('from')} onchange={(e) => choose('from', e.currentTarget.value)}>
      <option value="">before its last change</option>
      {#each editions as e (e.edition)}<option value={String(e.edition)}>{e.edition} · {day(ms(e.at))} · {e.who}{e.why ? ` · ${e.why}` : ''}</option>{/each}
    </select>
  </label>
  <label class="flex items-center gap-2">to
    <select class="field py-0.5" value={at('to')} onchange={(e) => choose('to', e.currentTarget.value)}>
      <option value="">the newest</option>
      {#each editions as e (e.edition)}<option value={String(e.edition)}>{e.edition} · {day(ms(e.at))} · {e.who}{e.why ? ` · ${e.why}` : ''}</option>{/each}
    </select>
  </label>
  <label class="flex items-center gap-2">beside
    <select class="field py-0.5" value={at('with')} onchange={(e) => choose('with', e.currentTarget.value)}>
      <option value="">itself</option>
      {#each procedures.filter((p) => p.name !== name) as p (p.name)}<option value={p.name}>{p.name}</option>{/each}
    </select>
  </label>
</div>
{#if refused}
  <Note title={refused.problem.title} tone="alarm"><p>{refused.message}. {refused.hint}</p></Note>
{:else if !found}
  <Note title="Looking …" />
{:else}
  <p class="mt-3"><b>{found.old}</b> <span class="text-ink2">beside</span> <b>{found.new}</b><span class="text-ink2">: {found.difference.new} line{found.difference.new === 1 ? '' : 's'} new, {found.difference.gone} gone</span></p>
  <div class="mt-3 grid grid-cols-[minmax(0,1fr)_minmax(0,1fr)] items-start gap-4 max-lg:grid-cols-1">
    <table class="sheet w-full border-collapse" aria-label="Step by step">
      <thead><tr class="text-left text-[13px] text-ink3"><th class="w-[3em] px-2.5 py-1.5 text-right font-normal">Was</th><th class="w-[3em] px-2.5 text-right font-normal">Is</th><th class="px-2.5 font-normal">Step</th><th class="w-[8.5em] px-2.5 font-normal"></th></tr></thead>
      <tbody>
        {#each found.steps as step, i (i)}
          <tr class="border-t border-line2 align-baseline {step.change === 'same' ? 'text-ink2' : ''}">
            <td class="px-2.5 py-1 text-right text-ink3">{step.old ?? ''}</td>
            <td class="px-2.5 text-right text-ink3">{step.new ?? ''}</td>
            <td class="px-2.5">{step.says}{#each step.keys as key (key)}<span class="block text-[13px] break-words text-moving">{key}</span>{/each}</td>
            <td class="px-2.5 whitespace-nowrap {hues[step.change]}">{step.change === 'same' ? '' : `${marks[step.change]} ${word(step.change)}`}</td>
          </tr>
        {/each}
      </tbody>
    </table>
    <div class="sheet overflow-auto py-1"><DifferenceText difference={found.difference} /></div>
  </div>
{/if}
