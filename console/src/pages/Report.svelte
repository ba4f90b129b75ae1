<!-- The report of a run, to read and to print: what was done, proven, decided; and how long it took beside forecast and earlier runs. -->
<script lang="ts">
  import { Refused, api, type Comparison, type Report } from '../lib/api';
  import { runHue, word } from '../lib/states';
  import { clock, day, ms, roughly } from '../lib/time';
  import Note from '../parts/Note.svelte';

  let { id }: { id: number } = $props();
  let report = $state.raw<Report | null>(null);
  let beside = $state.raw<Comparison | null>(null);
  let refused = $state.raw<Refused | null>(null);
  let other = $state<number | null>(null);

  $effect(() => {
    api.report(id).then((r) => (report = r), (e: unknown) => (refused = e instanceof Refused ? e : null));
  });
  $effect(() => {
    api.compare(id, other).then(
      (c) => ([beside, refused] = [c, null]),
      (e: unknown) => (refused = e instanceof Refused ? e : null),
    );
  });
  const took = (length?: number | null): string => (length === null || length === undefined ? '–' : `${(length / 1000).toFixed(1)} s`);
  const longest = $derived(Math.max(1, ...(beside?.steps ?? []).flatMap((s) => [s.took_ms ?? 0, s.with_ms ?? 0, s.usual_ms])));
  const wide = (length?: number | null): string => `${Math.round(((length ?? 0) / longest) * 100)}%`;
</script>

{#if refused && !report}
  <Note title={refused.problem.title} tone="alarm"><p>{refused.message}. {refused.hint}</p></Note>
{:else if !report}
  <Note title="Looking …" />
{:else}
  <article class="mx-auto max-w-[1020px]">
    <div class="flex flex-wrap items-baseline gap-3">
      <h1>Run {report.run}: {report.title}</h1>
      <span class="font-[650]" style="color: var(--{runHue(report.state)})">{word(report.state)}</span>
      <span class="flex-1"></span>
      <span class="flex gap-2 print:hidden">
        {#each ['markdown', 'csv', 'junit', 'json'] as form (form)}<a class="btn btn-small" href="/api/v1/runs/{id}/report?as={form}" target="_blank" rel="noreferrer">{form}</a>{/each}
        <button class="btn btn-small" onclick={() => print()}>Print…</button>
      </span>
    </div>
    <p class="mt-1 text-ink2">{report.estate} · edition {report.edition} · begun {day(ms(report.began_at))} by {report.who}{report.why ? ` · “${report.why}”` : ''}{report.change ? ` · change ${report.change}` : ''}{report.took_ms ? ` · took ${roughly(report.took_ms)}` : ''}{report.forecast_ms ? ` · forecast ${roughly(report.forecast_ms[0])}, 9 in 10 within ${roughly(report.forecast_ms[1])}` : ''}</p>
    {#each report.otherwise as o (o.address)}<p class="mt-1 font-semibold text-alarm"><span class="font-mono">{o.address}</span> is {word(o.now)}, and was to be {word(o.meant)}{o.found === 'proven' && o.now !== 'proven' ? '; it was found proven' : ''}.</p>{/each}
    {#each Object.entries(report.values) as [name, value] (name)}<p class="text-ink2"><span class="text-ink3">{name}</span> {value}</p>{/each}

    {#if report.decisions.length > 0}
      <h2 class="mt-4">Decisions</h2>
      {#each report.decisions as d (d.at + d.what)}<p><span class="text-ink3">{clock(ms(d.at))} {d.who}</span> {d.what}{d.why ? ` – “${d.why}”` : ''}</p>{/each}
    {/if}
    {#if report.differences.length > 0}
      <h2 class="mt-4">Different from as found</h2>
      {#each report.differences as d (d.address)}<p><span class="font-mono">{d.address}</span> was {word(d.found)} and is {word(d.now)}</p>{/each}
    {/if}

    <div class="mt-4 flex flex-wrap items-baseline gap-3">
      <h2>Steps</h2>
      <label class="flex items-center gap-2 text-ink2 print:hidden">beside run <input class="field w-[5em] py-0.5" type="number" min="1" placeholder={beside?.with ? String(beside.with) : 'none'} onchange={(e) => (other = Number(e.currentTarget.value) || null)} /></label>
      {#if refused}<span class="text-alarm" role="alert">{refused.message}. {refused.hint}</span>{/if}
      {#if beside?.with}<span class="text-ink2">run {beside.with} took {took(beside.with_ms)}, this one {took(beside.took_ms)}</span>{/if}
    </div>
    {#if beside && beside.earlier.length > 0}
      <p class="mt-1 text-ink2 print:hidden">Earlier ones: {#each beside.earlier as e, i (e.run)}{#if i > 0}{', '}{/if}<button class="text-accent underline {beside.with === e.run ? 'font-semibold' : ''}" onclick={() => (other = e.run)} title="{day(ms(e.began_at))}, {word(e.state)}">run {e.run}</button> {took(e.took_ms)}{#if e.state !== report.state}<span class="text-ink3"> {word(e.state)}</span>{/if}{/each}</p>
    {/if}
    <table class="sheet mt-1 w-full border-collapse text-[14.5px]">
      <thead><tr class="text-left text-[13px] text-ink3 [&>th]:px-2.5 [&>th]:py-1 [&>th]:font-medium"><th>Step</th><th>Does</th><th>State</th><th class="w-[110px]">Took</th><th class="w-[90px]">Usually</th><th class="w-[90px]">{beside?.with ? `Run ${beside.with}` : 'Before'}</th>{#if (beside?.earlier.length ?? 0) > 1}<th class="w-[120px]" title="the shortest, the middle and the longest">{beside?.earlier.length} before</th>{/if}<th class="w-[150px] print:hidden"></th></tr></thead>
      <tbody>
        {#each beside?.steps ?? [] as s, i (i)}
          {@const full = report.steps.find((r) => r.step === s.step)}
          <tr class="break-inside-avoid border-t border-line2 align-top [&>td]:px-2.5 [&>td]:py-[3px]">
            <td class="text-ink3">{s.step ?? ''}</td>
            <td>{s.says}{#if full?.part === 'put-back'} <span class="text-[13px] text-moving">the way back</span>{:else if full?.part === 'divert'} <span class="text-[13px] text-moving">took over</span>{/if}{#if full?.why}<span class="block text-[13px] text-alarm">{full.why}</span>{/if}</td>
            <td>{s.state}{#if s.with_state && s.with_state !== s.state}<span class="block text-[13px] text-ink3">was {s.with_state}</span>{/if}</td>
            <td class={s.slow ? 'font-semibold text-ailing' : ''}>{took(s.took_ms)}{#if s.slow}<span class="block text-[13px] font-normal">slower than 9 in 10</span>{/if}</td>
            <td class="text-ink3">{s.usual_ms ? took(s.usual_ms) : ''}</td>
            <td class="text-ink3">{s.with_ms === null || s.with_ms === undefined ? '' : took(s.with_ms)}</td>
            {#if (beside?.earlier.length ?? 0) > 1}<td class="text-ink3" title={s.earlier ? `in ${s.earlier.runs} of them; in the middle ${took(s.earlier.median_ms)}` : undefined}>{s.earlier ? `${(s.earlier.least_ms / 1000).toFixed(1)} to ${took(s.earlier.most_ms)}` : ''}</td>{/if}
            <td class="print:hidden">
              <div class="mt-1.5 h-[5px] bg-accent" style="width: {wide(s.took_ms)}"></div>
              <div class="mt-[2px] h-[3px] bg-ink3" style="width: {wide(s.with_ms)}"></div>
            </td>
          </tr>
        {/each}
      </tbody>
    </table>
    {#if report.as_found.length > 0}
      <details class="mt-4"><summary class="cursor-pointer text-ink2">As found, {report.as_found.length} services</summary>
        <ul class="mt-1 columns-2 text-[14px] max-md:columns-1">
          {#each report.as_found as f (f.address)}<li class="break-inside-avoid"><span class="font-mono text-[0.93em]">{f.address}</span> <span class="text-ink2">{word(f.state)}{f.rungs !== null && f.rungs !== undefined ? `, ${f.rungs} rungs` : ''}{f.process ? `, process ${f.process.pid}` : ''}</span></li>{/each}
        </ul>
      </details>
    {/if}
    {#if report.notes.length > 0}
      <h2 class="mt-4">Notes</h2>
      {#each report.notes as n (n.at + n.text)}<p><span class="text-ink3">{clock(ms(n.at))} {n.who}</span> {n.text}</p>{/each}
    {/if}
    <p class="mt-4 print:hidden"><a class="text-accent underline" href="/runs/{id}">The run with its evidence</a></p>
  </article>
{/if}
