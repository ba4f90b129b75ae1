<!-- Evidence beside the act: the exact command, where, as whom, exit, output, each rung, and the lines that matched. -->
<script lang="ts">
  import type { Snippet } from 'svelte';
  import type { Schemas, StepView } from '../lib/api';
  import { stepHue, stepWord } from '../lib/states';
  import { clock, ms } from '../lib/time';
  import LogEvidence from './LogEvidence.svelte';

  let { run, step, children }: { run: number; step: StepView; children?: Snippet } = $props();

  const acts = $derived(step.now.acts);
  let picked = $state<number | null>(null);
  const one = $derived(acts.find((a) => a.act === picked) ?? acts.at(-1) ?? null);
  const rungs = $derived(one?.rungs ?? step.now.rungs);
  const climbed = $derived(new Map(rungs.filter((r) => r.climbed).map((r) => [r.rung, r])));
  const forbidden = $derived((one?.logs ?? []).some((l) => l.count.forbidden.some((n) => n > 0)));
  /** The rung that speaks against it: the log where a forbidden line was found, else the one not climbed. */
  const against = $derived(forbidden ? step.rungs.lastIndexOf('log') : climbed.size);
  const reason = $derived(one?.failed?.[1] ?? ('reason' in step.now ? step.now.reason : null));

  function told(end: Schemas['ActEnd']): string {
    switch (end.how) {
      case 'exited':
        return `exit code ${end.code}`;
      case 'signalled':
        return `ended by signal ${end.signal}`;
      case 'timed-out':
        return 'took longer than it may';
      case 'sent':
        return 'sent';
      case 'refused':
        return `${end.why}; ${end.mend}`;
    }
  }
  const output = $derived(one?.end && 'output' in one.end[1] ? one.end[1].output.trim() : '');
  const since = (at: string): string => (one ? `${((ms(at) - ms(one.intended_at)) / 1000).toFixed(1)} s` : clock(ms(at)));
</script>

<section class="sheet mt-2.5 grid min-h-[190px] flex-1 grid-cols-[350px_minmax(0,1fr)] max-lg:grid-cols-1" aria-label="Evidence of step {step.planned.id}">
  <div class="border-r border-line p-3.5">
    <h2>{step.says[0]?.toUpperCase()}{step.says.slice(1)}</h2>
    <p><span class="font-semibold" style="color: var(--{stepHue(step.now)})">{stepWord(step.now)}</span> <span class="text-[14px] text-ink3">{step.now.state === 'ended' ? '' : `if it fails: ${step.if_it_fails}`}</span></p>
    {#if step.planned.address && acts.length > 0}<p class="text-[14px]"><a class="text-accent underline" href="/logs?of={step.planned.address}&run={run}">Its log, from the first act on</a></p>{/if}
    {#if step.planned.task?.kind === 'question'}
      <p class="mt-1">{step.planned.task.asks}</p>
      {#if step.planned.task.look_at}<p class="text-[14px] text-ink2">Look at {step.planned.task.look_at}.</p>{/if}
    {/if}
    {#if 'why' in step.now && step.now.state === 'ended'}<p class="text-[14px] text-ink2">“{step.now.why}” · {step.now.by}</p>{/if}
    <ol class="mt-1">
      {#each step.rungs as name, i (i)}
        {@const seen = climbed.get(i)}
        {@const failing = reason !== null && i === against && (forbidden || !seen)}
        <li class="flex items-baseline gap-2 py-0.5">
          <svg width="14" height="14" viewBox="0 0 14 14" class="flex-none self-center" aria-hidden="true">
            {#if failing}<path d="M2 2l10 10m0-10L2 12" stroke="var(--alarm)" stroke-width="2.4" />
            {:else if seen}<circle cx="7" cy="7" r="5" fill="var(--proven)" />
            {:else}<circle cx="7" cy="7" r="5" fill="none" stroke="var(--ink3)" stroke-width="1.6" />{/if}
          </svg>
          <span class="whitespace-nowrap">{name}</span>
          <span class="ml-auto min-w-0 truncate text-[14px] text-ink3" title={seen?.says}>{failing ? 'against it' : seen ? `${seen.says} · ${since(seen.at)}` : 'not reached'}</span>
        </li>
      {/each}
    </ol>
    {#if reason}<p class="mt-1 text-[14px] font-semibold text-alarm">{reason}</p>{/if}
    {#if acts.length > 1}
      <div class="mt-2 flex flex-wrap gap-1" role="group" aria-label="Acts">
        {#each acts as a (a.act)}
          <button class="btn btn-small aria-pressed:bg-accent-soft aria-pressed:text-accent" aria-pressed={a === one} onclick={() => (picked = a.act)}>{typeof a.kind === 'string' ? a.kind : 'evidence'} {a.attempt}{a.failed ? ' ✗' : ''}</button>
        {/each}
      </div>
    {/if}
    {#if one?.begun}
      <p class="mt-2 text-[14px] text-ink3">given at {clock(ms(one.intended_at))} in {one.begun.dir} as {one.begun.user}, attempt {one.attempt}{one.begun.pid ? `, process ${one.begun.pid}` : ''}</p>
      <p class="mt-0.5 font-mono text-[13px] break-all">{step.commands?.[acts.indexOf(one)] ?? ''}</p>
    {/if}
    {#if one?.end}<p class="mt-1 text-[14px]">{told(one.end[1])} <span class="text-ink3">at {clock(ms(one.end[0]))}</span></p>{/if}
    {@render children?.()}
  </div>
  <div class="min-w-0 overflow-auto p-3.5">
    {#if one && one.logs.length > 0}
      {#each one.logs as log (log.source)}<LogEvidence {log} />{/each}
    {:else if !output}
      <p class="text-ink3">{one ? 'No log lines belong to this act.' : step.now.state === 'waiting' ? 'It has not begun: it waits for other steps, or for room.' : 'No act of ours: it was looked at, not touched.'}</p>
    {/if}
    {#if output}<h3 class="mt-2 text-[13px] text-ink3">Output</h3><pre class="overflow-auto font-mono text-[13px]">{output}</pre>{/if}
  </div>
</section>
