<!-- One run: its score, what can be decided, and the evidence beside each act. -->
<script lang="ts">
  import { api, type RunForecast } from '../lib/api';
  import { Paced } from '../lib/paced';
  import { live } from '../lib/live.svelte';
  import { Layout } from '../lib/score';
  import { RunWatch } from '../lib/run-view.svelte';
  import { runHue, word } from '../lib/states';
  import { clock, ms, roughly } from '../lib/time';
  import Decisions from '../parts/Decisions.svelte';
  import Evidence from '../parts/Evidence.svelte';
  import Note from '../parts/Note.svelte';
  import Question from '../parts/Question.svelte';
  import RunNotes from '../parts/RunNotes.svelte';
  import Score from '../parts/Score.svelte';
  import StepTable from '../parts/StepTable.svelte';

  let { id }: { id: number } = $props();
  const watch = $derived(new RunWatch(id));
  $effect(() => watch.start());

  const run = $derived(watch.run);
  let asTable = $state(false);
  const layout = new Layout();
  const shown = $derived(run?.steps[(watch.shown ?? 0) - 1] ?? null);
  const asking = $derived(run?.steps.filter((s) => s.now.state === 'asking' && s.now.answer) ?? []);
  const wanting = $derived(run?.preflight.filter((p) => p.answer.verdict !== 'holds') ?? []);
  const values = $derived(Object.entries(run?.values ?? {}).filter(([name]) => name !== 'dir'));

  // The forecast follows what happens, and time.
  let forecast = $state.raw<RunForecast | null>(null);
  const paced = new Paced(() => (run ? api.forecast(run.id).then((f) => (forecast = f), () => (forecast = null)) : Promise.resolve()), 300);
  const wanted = $derived(run && !run.ended_at ? `${Math.floor(live.serverNow / 2000)} ${run.events}` : null);
  $effect(() => {
    if (wanted) paced.soon();
  });
  $effect(() => () => paced.stop());
  const left = $derived(run?.likely_end ? Math.max(0, ms(run.likely_end) - live.serverNow) : 0);
</script>

{#if watch.refused}
  <Note title={watch.refused.problem.title} tone="alarm"><p>{watch.refused.message}. {watch.refused.hint}</p></Note>
{:else if !run}
  <Note title="Looking …" />
{:else}
  <div class="flex min-h-full flex-col">
    <div class="flex flex-wrap items-center gap-x-3 gap-y-2">
      <h1 class="min-w-0">{run.title[0]?.toUpperCase()}{run.title.slice(1)}</h1>
      <span class="font-[650]" style="color: var(--{runHue(run.state)})" role="status">{word(run.state)}</span>
      <span class="flex-1"></span>
      <Decisions {run} onchange={(r) => (watch.run = r)} />
    </div>
    <p class="mt-0.5 text-ink2">
      Run {run.id} · begun {clock(ms(run.began_at))} by {run.who}{run.why ? ` · “${run.why}”` : ''} · edition {run.edition} · {run.steps_in_all[1]} of {run.steps_in_all[0]} steps
      {#if run.ended_at}· ended {clock(ms(run.ended_at))} after {roughly(ms(run.ended_at) - ms(run.began_at))}
      {:else if run.likely_end}· {run.hold ? 'if decided now: ' : ''}likely end <b class="text-ink">{clock(run.hold ? live.serverNow + left : ms(run.likely_end))}</b>, about {roughly(forecast && !run.hold ? forecast.now.likely_ms : left)}{#if forecast && !run.hold}, 9 in 10 by {clock(ms(forecast.as_of) + forecast.now.late_ms)}{/if}{/if}
      {#if run.change}· change {run.change}{/if}
      {#if run.from_line}· begun at line {run.from_line}{/if}
      {#if values.length > 0}· {values.map(([n, v]) => `${n} = ${v}`).join(', ')}{/if}
    </p>
    {#if run.part === 'put-back' && !run.ended_at}<p class="mt-1.5 border border-moving bg-moving-soft px-3 py-1.5"><b>On its way back:</b> everything is put back as it was found.</p>{/if}
    {#if run.diverted_to}<p class="mt-1.5 border border-moving bg-moving-soft px-3 py-1.5"><b>{run.diverted_to}</b> took over.</p>{/if}
    {#if run.window && forecast?.window && !run.ended_at}
      {@const late = forecast.last_moment ? ms(forecast.last_moment) < live.serverNow : false}
      <p class="mt-1 {late || forecast.window.chance < 95 ? 'text-alarm' : 'text-ink2'}">Must fit {run.window.title}, which ends {clock(ms(run.window.ends_at))}: {forecast.window.chance} in 100. {forecast.last_moment ? (late ? 'Putting back would no longer fit.' : `Last moment to put back: ${clock(ms(forecast.last_moment))}, which would take about ${roughly(forecast.way_back_ms)}; then it ${word(run.window.at_last_moment)}s.`.replace('go ons', 'goes on').replace('put backs', 'puts back')) : ''}</p>
    {/if}
    {#each forecast && !run.ended_at ? forecast.slow : [] as slow (slow.step)}
      <p class="mt-1 text-moving"><button class="underline" onclick={() => (watch.chosen = slow.step)}>Step {slow.step}</button>: {slow.says} (usually {roughly(slow.usual_ms)}).</p>
    {/each}
    {#each wanting as look (look.says)}
      <p class="mt-1 text-alarm">Before the first act: {look.says} – {look.answer.says}</p>
    {/each}
    {#each asking as step (step.planned.id)}<Question {run} {step} onchange={(r) => (watch.run = r)} />{/each}
    {#if run.queued_behind.length > 0}<p class="mt-1 text-moving">Queued behind {run.queued_behind.join(', ')}</p>{/if}
    {#if run.hold_ends}<p class="mt-1.5 text-alarm">Nobody deciding, it is put back at <b>{clock(ms(run.hold_ends))}</b>, in {roughly(Math.max(0, ms(run.hold_ends) - live.serverNow))}.</p>{/if}
    {#each run.held_because as because (because)}
      <p class="mt-1.5 border border-alarm bg-alarm-soft px-3 py-1.5" role="alert"><b>Held:</b> {because}</p>
    {/each}
    {#each Object.entries(run.overrides) as [address, over] (address)}
      <p class="mt-1 text-moving">For this run only, <span class="font-mono">{address}</span>: {[...Object.entries(over.env).map(([n, v]) => `${n}=${v}`), ...(over.args ? [`arguments ${over.args.join(' ')}`] : []), ...(over.start_patience ? [`its start may take ${over.start_patience}`] : []), ...(over.stop_patience ? [`its stop may take ${over.stop_patience}`] : []), ...(over.written ?? '').split('\n').filter((l) => l.trim())].join(', ')}</p>
    {/each}
    {#if run.at_once}<p class="mt-1 text-moving">At most {run.at_once} at once, for this run</p>{/if}
    {#if run.released.length > 0}<p class="mt-1 text-moving">Released, for others to act on: <span class="font-mono">{run.released.join(', ')}</span></p>{/if}
    {#each run.otherwise as o (o.address)}
      <p class="mt-1.5 border border-alarm bg-alarm-soft px-3 py-1.5" role="alert"><b class="font-mono">{o.address}</b> is {word(o.now)}, and was to be {word(o.meant)}{o.found === 'proven' && o.now !== 'proven' ? '; it was found proven' : ''}.</p>
    {/each}
    {#if run.differences.length > 0}
      <!-- Of a whole estate that was stopped nobody reads a line each before the score. -->
      <details class="mt-1 text-ink2" open={run.differences.length <= 3}>
        <summary class="cursor-pointer">{run.differences.length === 1 ? 'One stands' : `${run.differences.length} stand`} otherwise than found</summary>
        <ul class="max-h-[30vh] overflow-auto">
          {#each run.differences.slice(0, 500) as d (d.address)}<li class="mt-1"><span class="font-mono text-ink">{d.address}</span> was found {word(d.found)} and is {word(d.now)} now</li>{/each}
          {#if run.differences.length > 500}<li class="mt-1">and {run.differences.length - 500} more, in the report</li>{/if}
        </ul>
      </details>
    {/if}

    <div class="mt-2 mb-1 flex items-center justify-end" role="group" aria-label="Shown as">
      <a class="mr-3 text-accent underline" href="/runs/{run.id}/report">Report</a>
      <button class="btn btn-small rounded-r-none aria-pressed:bg-accent-soft aria-pressed:text-accent" aria-pressed={!asTable} onclick={() => (asTable = false)}>Score</button>
      <button class="btn btn-small rounded-l-none border-l-0 aria-pressed:bg-accent-soft aria-pressed:text-accent" aria-pressed={asTable} onclick={() => (asTable = true)}>Table</button>
    </div>
    <div class="sheet max-h-[46vh] flex-none overflow-auto">
      {#if asTable}
        <StepTable {run} shown={watch.shown} onchoose={(step) => (watch.chosen = step)} />
      {:else}
        <Score {run} {layout} lastMoment={forecast?.last_moment && !run.ended_at ? ms(forecast.last_moment) : null} now={live.serverNow} shown={watch.shown} onchoose={(step) => (watch.chosen = step)} />
      {/if}
    </div>
    {#if shown}
      <Evidence run={run.id} step={shown}><Decisions {run} of={shown.planned.address ?? ''} onchange={(r) => (watch.run = r)} /></Evidence>
    {/if}
    <RunNotes {run} onchange={(r) => (watch.run = r)} />
  </div>
{/if}
