<!-- A procedure: its lines, what it asks, its rehearsal, and carrying it out. -->
<script lang="ts">
  import { Refused, api, identity, request as requestFor, type BeginRequest, type ProcedureView, type Rehearsal } from '../lib/api';
  import { live } from '../lib/live.svelte';
  import { router } from '../lib/router.svelte';
  import { does, runHue, word } from '../lib/states';
  import { clock, ms, roughly } from '../lib/time';
  import Confirm from '../parts/Confirm.svelte';
  import Ghost from '../parts/Ghost.svelte';
  import Note from '../parts/Note.svelte';
  import ThisRun from '../parts/ThisRun.svelte';
  import PlanAsks from '../parts/PlanAsks.svelte';

  let { name }: { name: string } = $props();

  let view = $state.raw<ProcedureView | null>(null);
  let played = $state.raw<Rehearsal | null>(null);
  let refused = $state.raw<Refused | null>(null);
  let answers = $state<Record<string, string>>({});
  let below = $state.raw<string[]>([]);
  let standing = $state.raw<string[]>([]);
  let freezes = $state.raw<string[]>([]);
  let change = $state('');
  let inWindow = $state('');
  let atLast = $state<'hold' | 'put-back' | 'go-on'>('hold');
  let fails = $state<number | null>(null);
  let fromLine = $state<number | null>(null);
  let asking = $state(false);
  let overrides = $state.raw<BeginRequest['overrides']>({});
  let prefer = $state<BeginRequest['prefer']>('soonest');
  let heldAtMost = $state('');
  let vouched = $state.raw<string[]>([]);
  /** What is being confirmed: the rehearsal as it was when the question was put. What is begun is that. */
  let put = $state.raw<{ plan: Rehearsal; as: string } | null>(null);
  function ask(): void {
    if (!played) return;
    put = { plan: played, as: identity() };
    asking = true;
  }
  const actedOn = $derived([...new Set(played?.plan.sequence.steps.flatMap((s) => (s.address ? [s.address] : [])) ?? [])].sort());

  $effect(() => {
    void live.board?.edition;
    api.procedure(name).then(
      (p) => ([view, refused] = [p, null]),
      (e: unknown) => (refused = e instanceof Refused ? e : null),
    );
  });

  const request = $derived(
    requestFor(
      { procedure: { name, answers: { ...answers }, from_line: fromLine, vouched_for: vouched } },
      { left_standing: standing, below_keep_up: below, overrides, prefer, held_at_most: heldAtMost || null, change: change || null, in_freeze: freezes, window: inWindow || null, at_last_moment: atLast },
    ),
  );
  const facts = $derived(`${live.board?.edition} ${live.board?.services.map((s) => s.seen.state).join() ?? ''}`);

  // Rehearsed again when an answer or a fact changes; typing is let come to rest.
  $effect(() => {
    void facts;
    const [asked, step] = [request, fails];
    if (!view) return;
    let gone = false;
    const soon = setTimeout(() => {
      api.rehearse(asked, step ?? undefined).then(
        (r) => {
          if (!gone) [played, refused] = [r, null];
        },
        (e: unknown) => {
          if (!gone) refused = e instanceof Refused ? e : null;
        },
      );
    }, 250);
    return () => {
      gone = true;
      clearTimeout(soon);
    };
  });

  async function begin(why: string): Promise<string | null> {
    try {
      const { id } = await api.begin({ ...request, why: why || null, shown: put?.plan.digest ?? null, asked_as: put?.as ?? null });
      router.go(`/runs/${id}`);
      return null;
    } catch (error) {
      if (error instanceof Refused) return `${error.message}. ${error.hint}`;
      throw error;
    }
  }
  const questions = $derived(Object.entries(view?.questions ?? {}));
  const kindOf = (i: number): string => {
    const line = view?.lines[i];
    if (!line) return '';
    if (line.preflight) return 'preflight';
    const d = line.does;
    return d.does === 'services' ? word(d.wish) : d.does === 'act' ? d.act : d.does === 'bring-back' ? 'bring back' : does({ kind: d.task.kind, task: d.task });
  };
  const failing = $derived.by(() => {
    const step = fails === null ? undefined : played?.plan.sequence.steps[fails - 1];
    if (!step) return null;
    const what = step.settings?.title && !step.address ? step.settings.title : `${does({ kind: step.kind, task: step.task })} ${step.address ?? ''}`;
    return { id: step.id, says: what };
  });
  const bad = $derived(played?.preflight.filter((p) => p.answer.verdict !== 'holds') ?? []);
  const worst = $derived(put?.plan.plan.hits.filter((h) => h.impact.says) ?? []);
  const stands = $derived(`${live.board?.estate} · ${live.board?.stands_for}`);
</script>

{#if !view}
  {#if refused}<Note title={refused.problem.title} tone="alarm"><p>{refused.message}. {refused.hint}</p></Note>{:else}<Note title="Looking …" />{/if}
{:else}
  <div class="flex flex-wrap items-center gap-3">
    <h1>{view.title}</h1>
    <span class="font-mono text-[13px] text-ink3">{view.name} · edition {view.edition}</span>
    <span class="flex-1"></span>
    <a class="btn" href="/procedures/{name}/edit">Edit</a>
    <a class="btn" href="/procedures/{name}/difference">What changed</a>
    <button class="btn btn-main" disabled={!played?.can_begin || !!refused} onclick={ask}>Carry out…</button>
  </div>
  {#if view.purpose}<p class="mt-0.5 max-w-[90ch] text-ink2">{view.purpose}</p>{/if}

  <div class="mt-3 grid grid-cols-[minmax(320px,420px)_minmax(0,1fr)] gap-4 max-lg:grid-cols-1">
    <div class="min-w-0">
      {#if questions.length > 0}
        <section class="sheet mb-3 p-3.5" aria-label="Questions">
          {#each questions as [key, asks] (key)}
            <label class="mb-2 block last:mb-0">
              <span class="text-ink2">{asks.asks}</span>
              {#if asks.kind === 'choice'}
                <select class="field mt-1 w-full" value={answers[key] ?? asks.default ?? ''} onchange={(e) => (answers[key] = e.currentTarget.value)}>
                  {#each asks.choices as choice (choice)}<option>{choice}</option>{/each}
                </select>
              {:else}
                <input class="field mt-1 w-full" type={asks.kind === 'number' ? 'number' : 'text'} placeholder={asks.default ?? ''} value={answers[key] ?? ''} oninput={(e) => (answers[key] = e.currentTarget.value)} />
              {/if}
              {#each refused?.problem.answers?.filter((f) => f.question === key) ?? [] as fault (fault.why)}<span class="block text-[14px] text-alarm" role="alert">{fault.why}; {fault.mend}</span>{/each}
            </label>
          {/each}
        </section>
      {/if}
      <ol class="sheet" aria-label="Lines">
        {#each view.says as says, i (i)}
          {@const line = view.lines[i]}
          <li class="flex items-baseline gap-2.5 border-t border-line2 px-3 py-1 first:border-t-0 {fromLine && i + 1 < fromLine ? 'text-ink3 line-through' : ''}">
            <span class="w-[2.2em] flex-none text-right text-[13px] text-ink3" title={line?.alongside ? 'begins together with the line before it' : undefined}>{line?.alongside ? '‖ ' : ''}{i + 1}</span>
            <span class="min-w-0 flex-1">{says}{#if line?.settings.if_it_fails}<span class="block text-[13px] text-ink3">if it fails: {typeof line.settings.if_it_fails === 'string' ? word(line.settings.if_it_fails) : `divert to ${line.settings.if_it_fails.divert}`}</span>{/if}</span>
            <span class="flex-none text-[13px] text-ink3">{kindOf(i)}</span>
          </li>
        {/each}
      </ol>
      <label class="mt-2 flex items-center gap-2 text-ink2">Begin at line <input class="field w-[4.5em] py-0.5" type="number" min="1" max={view.lines.length} placeholder="1" value={fromLine ?? ''} onchange={(e) => (fromLine = Number(e.currentTarget.value) > 1 ? Number(e.currentTarget.value) : null)} />{#if fromLine}<span class="text-ink3">you vouch for those before it</span>{/if}</label>
      <label class="mt-2 flex items-center gap-2 text-ink2">Must fit the window <input class="field w-[9em] py-0.5" placeholder="none" value={inWindow} onchange={(e) => (inWindow = e.currentTarget.value.trim())} /></label>
      {#if inWindow}
        <label class="mt-2 flex flex-wrap items-center gap-2 text-ink2">At the last moment to put back
          <select class="field py-0.5" bind:value={atLast}><option value="hold">hold</option><option value="put-back">put back</option><option value="go-on">go on</option></select>
        </label>
      {/if}
      <label class="mt-2 flex items-center gap-2 text-ink2">Change number <input class="field w-[9em] py-0.5" placeholder="none" bind:value={change} /></label>
      <ThisRun services={actedOn} {overrides} {prefer} {heldAtMost} onoverrides={(o) => (overrides = o)} onprefer={(p) => (prefer = p)} onheld={(l) => (heldAtMost = l)} />
    </div>

    <section class="min-w-0" aria-label="Rehearsal">
      {#if refused && !refused.problem.answers?.length}
        <p class="sheet border-alarm p-4" role="alert"><b class="text-alarm">{refused.problem.title}.</b> {refused.message}. {refused.hint}</p>
      {/if}
      {#if !played}
        <p class="sheet p-4 text-ink2">Rehearsing …</p>
      {:else}
        <p class="sheet p-3.5"><b>Likely {roughly(played.forecast.likely_ms)}</b>, 9 in 10 within {roughly(played.forecast.late_ms)}. <span class="text-ink2">{played.forecast.rank_by_rank_ms > played.forecast.as_planned_ms + 500 ? `${roughly(played.forecast.rank_by_rank_ms - played.forecast.as_planned_ms)} sooner than rank by rank. ` : ''}{#if played.plan.felt}Felt least: {roughly(Math.max(0, played.plan.felt.soonest_away_ms - played.plan.felt.away_ms))} less without services in all{played.plan.felt.longer_ms > 0 ? `, ${roughly(played.plan.felt.longer_ms)} longer` : ''}. {/if}{played.forecast.plays} plays; touches nothing.</span>{#if played.window}<br />{played.window.title} ends {clock(ms(played.window.ends_at))}: <b class={played.window.chance >= 95 ? 'text-proven' : 'text-alarm'}>{played.window.chance} in 100</b> that it has ended by then.{/if}</p>
        {#each bad as look (look.says)}<p class="mt-2 border border-alarm bg-alarm-soft px-3.5 py-2" role="alert"><b>Before the first act:</b> {look.says} – {look.answer.says}</p>{/each}
        {#each played.refused.filter((r) => !bad.some((b) => r.startsWith(b.says)) && !played?.plan.obstacles.some((o) => o.why === r)) as why (why)}<p class="mt-2 border border-alarm bg-alarm-soft px-3.5 py-2" role="alert">{why}</p>{/each}
        <PlanAsks plan={played.plan} {below} {standing} onbelow={(l) => (below = l)} onstanding={(l) => (standing = l)} {freezes} onfreezes={(l) => (freezes = l)} {vouched} onvouched={(l) => (vouched = l)} />
        <div class="sheet mt-2 max-h-[56vh] overflow-auto">
          <Ghost rehearsal={played} shown={fails} onchoose={(step) => (fails = fails === step ? null : step)} />
        </div>
        <label class="mt-2 flex flex-wrap items-center gap-3 text-ink2">What if it fails at
          <input class="min-w-[160px] flex-1 accent-[var(--accent)]" type="range" min="0" max={played.plan.sequence.steps.length} value={fails ?? 0} aria-label="What if this step fails" aria-valuetext={failing ? `step ${failing.id}: ${failing.says}` : 'nothing fails'} oninput={(e) => (fails = Number(e.currentTarget.value) || null)} />
          <span class="w-[22em] max-w-full truncate {failing ? 'text-ink' : 'text-ink3'}">{failing ? `step ${failing.id}: ${failing.says}` : 'no step: move it, or choose a bar above'}</span>
        </label>
        {#if fails !== null && played.what_if.length > 0}
          <div class="mt-2 grid grid-cols-[repeat(auto-fit,minmax(220px,1fr))] gap-2" {@attach (node) => node.scrollIntoView({ block: 'nearest' })}>
            {#each [...played.what_if].sort((a, b) => Number(b.is_its_rule) - Number(a.is_its_rule)) as what (JSON.stringify(what.rule))}
              <section class="sheet border-t-[3px] p-3 {what.is_its_rule ? 'border-t-accent' : 'border-t-line'}">
                <h3 class="font-semibold">{typeof what.rule === 'string' ? word(what.rule) : `divert to ${what.rule.divert}`}{#if what.is_its_rule}<span class="ml-2 text-[13px] font-normal text-accent">its rule</span>{/if}</h3>
                <p>The run is <b style="color: var(--{runHue(what.state)})">{word(what.state)}</b>; {what.good} steps good, {what.left_out} left out.</p>
                {#if Object.keys(what.stands).length === 0}
                  <p class="text-ink2">Everything stands as found.</p>
                {:else}
                  <ul class="max-h-[18vh] overflow-auto text-[14px]">
                    {#each Object.entries(what.stands) as [address, state] (address)}<li><span class="font-mono text-[0.93em]">{address}</span> <span class="text-ink2">{word(state)}</span></li>{/each}
                  </ul>
                {/if}
              </section>
            {/each}
          </div>
        {/if}
        <details class="mt-3"><summary class="cursor-pointer text-ink2">On paper, to work by hand</summary><pre class="sheet mt-1 max-h-[50vh] overflow-auto p-3 font-mono text-[13px]">{played.sheet}</pre></details>
      {/if}
    </section>
  </div>

  <Confirm bind:open={asking} title="Carry out: {view.title}" says="{stands}. {put ? `Likely ${roughly(put.plan.forecast.likely_ms)}, 9 in 10 within ${roughly(put.plan.forecast.late_ms)}.` : ''}{(put?.plan.plan.vouched ?? []).length > 0 ? ` ${(put?.plan.plan.vouched ?? []).length} steps before line ${fromLine} are taken as done, on your word.` : ''}" action="Carry out now" needsReason={fromLine !== null || freezes.length > 0} onconfirm={begin}>
    {#if worst.length > 0}
      <h3 class="mt-3 text-[13px] text-ink3">Who notices</h3>
      <ul class="max-h-[26vh] overflow-auto">
        {#each worst as hit (hit.address + (hit.impact.says ?? ''))}
          <li class="py-0.5"><span class="font-mono text-[0.93em]">{hit.address}</span> <span class="text-ink2">{hit.impact.says} {hit.usual_ms ? `About ${roughly(hit.usual_ms)}.` : 'Until it is started again.'}</span></li>
        {/each}
      </ul>
    {/if}
  </Confirm>
{/if}
