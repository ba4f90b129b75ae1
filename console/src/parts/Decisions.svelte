<!-- What an operator may do with a run now, each with what it leads to. The server says what is allowed. -->
<script lang="ts">
  import { Refused, api, type Allowed, type PlanView, type ProcedureSummary, type RunView, type Schemas } from '../lib/api';
  import { live } from '../lib/live.svelte';
  import Confirm from './Confirm.svelte';
  import PlanRanks from './PlanRanks.svelte';

  let { run, onchange, of = null }: { run: RunView; onchange: (run: RunView) => void; of?: string | null } = $props();

  let asked = $state.raw<Allowed | null>(null);
  let open = $state(false);

  /** Letting go of one service is offered beside its step, all else above. */
  const offered = $derived(run.allowed.filter((a) => (a.kind === 'release' ? a.address === of : of === null && a.kind !== 'answer')));
  const names: Record<Allowed['kind'], string> = { hold: 'Hold', resume: 'Resume', 'try-again': 'Try again', 'pass-over': 'Pass over', vouch: 'Vouch', force: 'Force', release: 'Release', answer: 'Answer', 'put-back': 'Put back', divert: 'Divert', 'give-up': 'Give up' };
  const step = (a: Allowed): number | null => ('step' in a ? a.step : null);
  const several = $derived(new Set(run.allowed.map(step).filter((s) => s !== null)).size > 1);
  const label = (a: Allowed): string => `${names[a.kind]}${several && step(a) !== null ? ` ${step(a)}` : ''}`;
  const gentle = (a: Allowed): boolean => a.kind === 'try-again' || a.kind === 'resume' || a.kind === 'hold';

  async function decide(a: Allowed, why: string): Promise<string | null> {
    try {
      // Everything else in it is for people; the server takes what it knows.
      onchange(await api.decide(run.id, { shown: null, ...a, why: why || null } as Schemas['DecisionRequest']));
      return null;
    } catch (error) {
      if (error instanceof Refused) return `${error.message}. ${error.hint}`;
      throw error;
    }
  }
  let refused = $state<string | null>(null);

  // What it would do is shown, and what is agreed to is that and no more.
  let would = $state.raw<Schemas['Consequences'] | null>(null);
  let asking = 0;
  async function weigh(a: Pick<Allowed, 'kind'>, hold: number | null | undefined): Promise<string | null> {
    would = null;
    const mine = ++asking;
    try {
      const found = await api.consequences({ deed: 'decision', run: run.id, decision: a as Schemas['DecisionKind'], hold: hold ?? null });
      // Another was asked about meanwhile: the answer to that counts.
      if (mine === asking) would = found;
      return null;
    } catch (error) {
      if (error instanceof Refused) return `${error.message}. ${error.hint}`;
      throw error;
    }
  }
  /** Decides what was shown; where it would do more by now, that is shown, with what is new of it. */
  async function decideAsShown(a: Allowed, why: string): Promise<string | null> {
    const before = would?.digest;
    if (!before) return 'It is still being worked out what this would do';
    const says = await decide({ ...a, shown: before } as unknown as Allowed, why);
    if (says !== null) await weigh(a, run.hold);
    return says;
  }

  // Another procedure may take over: which, is asked for.
  let diverting = $state(false);
  let procedures = $state.raw<ProcedureSummary[]>([]);
  let to = $state('');
  async function divert(): Promise<void> {
    procedures = await api.procedures();
    to = procedures.find((p) => p.title !== run.title)?.name ?? procedures[0]?.name ?? '';
    diverting = true;
    await weighDivert();
  }
  const toDivert = (): Allowed => ({ kind: 'divert', procedure: to, hold: run.hold }) as unknown as Allowed;
  let cannot = $state<string | null>(null);
  async function weighDivert(): Promise<void> {
    cannot = await weigh(toDivert(), run.hold);
  }
  // Things changed before it began to act: what it would do now is shown, and what is confirmed is that.
  const isAnew = (a: Allowed): boolean => a.kind === 'resume' && a.leads_to.startsWith('works it out anew');
  let anew = $state.raw<PlanView | null>(null);
  let goingOn = $state(false);
  async function press(a: Allowed): Promise<void> {
    if (isAnew(a)) {
      refused = null;
      try {
        anew = await api.anew(run.id);
        asked = a;
        goingOn = true;
      } catch (error) {
        if (!(error instanceof Refused)) throw error;
        refused = `${error.message}. ${error.hint}`;
      }
    } else if (gentle(a)) {
      refused = await decide(a, '');
    } else {
      refused = await weigh(a, a.hold);
      asked = a;
      open = refused === null;
    }
  }
</script>

{#snippet does()}
  {#if would === null}
    <p class="mt-3 text-ink2">Working out what this would do…</p>
  {:else if would.does.length > 0}
    <ol class="mt-3 max-h-[38vh] overflow-auto border border-line2" aria-label="What this does">
      {#each would.does as sentence, i (i)}<li class="border-b border-line2 px-3 py-1 font-mono text-[14px] last:border-b-0">{sentence}</li>{/each}
    </ol>
  {/if}
{/snippet}

<div class="flex flex-wrap gap-2 {of === null ? 'justify-end' : 'mt-2'}">
  {#each offered as allowed (JSON.stringify(allowed))}
    <!-- What ends the run stands last. -->
    {#if allowed.kind === 'give-up' && of === null && run.may_divert}<button class="btn" title={run.may_divert} onclick={divert}>Divert…</button>{/if}
    <button
      class="btn {of === null ? '' : 'btn-small'} {allowed.kind === 'try-again' || allowed.kind === 'resume' ? 'btn-main' : ''} {allowed.kind === 'give-up' || allowed.kind === 'force' ? 'btn-alarm' : ''}"
      title={allowed.leads_to}
      onclick={() => press(allowed)}>{label(allowed)}{gentle(allowed) && !isAnew(allowed) ? '' : '…'}</button
    >
  {/each}
</div>
{#if refused}<p class="w-full text-right text-alarm" role="alert">{refused}</p>{/if}

{#if run.may_divert}
  <Confirm bind:open={diverting} title="Divert: run {run.id}" says="{live.board?.estate} · {live.board?.stands_for}. This {run.may_divert}." action="Divert" onconfirm={(why) => decideAsShown(toDivert(), why)}>
    <label class="mt-3 block"><span class="text-ink2">The procedure that takes over</span>
      <select class="field mt-1 w-full" bind:value={to} onchange={weighDivert}>{#each procedures as p (p.name)}<option value={p.name}>{p.title}</option>{/each}</select>
    </label>
    <p class="mt-1 text-ink2">{procedures.find((p) => p.name === to)?.purpose ?? ''}</p>
    {#if cannot}<p class="mt-2 border border-alarm bg-alarm-soft px-3.5 py-2" role="alert">{cannot}</p>{:else}{@render does()}{/if}
  </Confirm>
{/if}

{#if anew && asked}
  {@const a = asked}
  {@const now = anew}
  <Confirm bind:open={goingOn} title="Resume: run {run.id}, worked out anew" says="{live.board?.estate} · {live.board?.stands_for}. It was confirmed otherwise, and has not begun to act. It would do this now: {now.says}" action="Go on so" onconfirm={(why) => decide({ ...a, shown: now.digest } as unknown as Allowed, why)}>
    <PlanRanks plan={now} />
    {#each [...now.obstacles.map((o) => o.why), ...now.asks.map((q) => q.says)] as why (why)}<p class="mt-2 border border-alarm bg-alarm-soft px-3.5 py-2" role="alert">{why}</p>{/each}
    {#if !now.can_begin}<p class="mt-2">It cannot go on so. Give it up, and plan it anew where this can be said.</p>{/if}
  </Confirm>
{/if}

{#if asked && !isAnew(asked)}
  {@const a = asked}
  <Confirm
    bind:open
    title="{names[a.kind]}: run {run.id}{'address' in a ? `, ${a.address}` : step(a) === null ? '' : `, step ${step(a)}`}"
    says="{live.board?.estate} · {live.board?.stands_for}. This {a.leads_to}."
    action={names[a.kind]}
    alarm={a.kind === 'give-up' || a.kind === 'force'}
    needsReason={a.needs_reason}
    onconfirm={(why) => decideAsShown(a, why)}
  >
    {@render does()}
  </Confirm>
{/if}
