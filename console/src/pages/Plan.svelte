<!-- Choose services and a wish, see what it comes to, begin it. -->
<script lang="ts">
  import { Refused, api, identity, request as requestFor, type BeginRequest, type PlanView, type Wish } from '../lib/api';
  import { isHost, wishOf } from '../lib/deeds';
  import { live } from '../lib/live.svelte';
  import { router } from '../lib/router.svelte';
  import { upper } from '../lib/states';
  import { roughly } from '../lib/time';
  import Confirm from '../parts/Confirm.svelte';
  import Picker from '../parts/Picker.svelte';
  import PlanAsks from '../parts/PlanAsks.svelte';
  import ThisRun from '../parts/ThisRun.svelte';
  import PlanRanks from '../parts/PlanRanks.svelte';

  const wishes: { wish: Wish; does: string }[] = [
    { wish: 'reload', does: 'Configuration is read again; users notice nothing.' },
    { wish: 'restart', does: 'Down and up again, with all that relies on it and was up.' },
    { wish: 'stop', does: 'Down, with all that relies on it.' },
    { wish: 'start', does: 'Up, with all that it needs and is down.' },
    { wish: 'bring-to-expected', does: 'Up what should be up, down what should be down.' },
  ];

  /** Of hosts the wishes have names of their own, and one more. */
  const ofHosts: { wish: Wish; does: string }[] = [
    { wish: 'restart', does: 'Down in order, a new boot, and all that was up comes back.' },
    { wish: 'stop', does: 'All on it and all that relies on it goes down first; then it shuts itself down and is seen to be off.' },
    { wish: 'start', does: 'Given power, and awaited until it is through with booting.' },
    { wish: 'power-cycle', does: 'Shut down, seen to be off, given power again, and all that was up comes back.' },
  ];

  // What is planned lives in the address bar, so that it can be handed on.
  const of = $derived((router.query.get('of') ?? '').split(',').filter(Boolean));
  const offered = $derived(of.length > 0 && of.every(isHost) ? ofHosts : wishes);
  const wish = $derived((offered.find((w) => w.wish === router.query.get('wish'))?.wish ?? 'restart') as Wish);
  const name = (w: Wish): string => upper(wishOf(w, of));
  const alone = $derived(router.query.has('alone'));
  const below = $derived((router.query.get('below') ?? '').split(',').filter(Boolean));
  const atOnce = $derived(Math.max(0, Math.trunc(Number(router.query.get('at-once') ?? 0))) || null);
  const freezes = $derived((router.query.get('in-freeze') ?? '').split(',').filter(Boolean));
  const standing = $derived((router.query.get('standing') ?? '').split(',').filter(Boolean));

  let plan = $state.raw<PlanView | null>(null);
  let refused = $state.raw<Refused | null>(null);
  let asking = $state(false);
  /** What is being confirmed: the plan as it was when the question was put. It stays so while it is read, and what is begun is that. */
  let put = $state.raw<{ plan: PlanView; as: string } | null>(null);
  function ask(): void {
    if (!plan) return;
    put = { plan, as: identity() };
    asking = true;
  }
  let overrides = $state.raw<BeginRequest['overrides']>({});
  let prefer = $state<BeginRequest['prefer']>('soonest');
  let heldAtMost = $state('');
  /** What the last plan acted on: kept while one is refused, so that what is written can be mended. */
  let actedOn = $state.raw<string[]>([]);
  $effect(() => {
    if (plan) actedOn = [...new Set(plan.sequence.steps.flatMap((s) => (s.address ? [s.address] : [])))].sort();
  });

  const request = $derived(
    requestFor({ services: { wish, of, except: [], alone } }, { left_standing: standing, below_keep_up: below, overrides, prefer, held_at_most: heldAtMost || null, at_once: atOnce, in_freeze: freezes }),
  );
  /** What matters to the plan: when the estate or a state changes, it is worked out again. */
  const facts = $derived(`${live.board?.edition} ${live.board?.services.map((s) => s.seen.state).join() ?? ''}`);

  $effect(() => {
    void facts;
    const asked = request;
    if (of.length === 0) {
      plan = null;
      refused = null;
      return;
    }
    let gone = false;
    api.plan(asked).then(
      (p) => {
        if (!gone) [plan, refused] = [p, null];
      },
      (e: unknown) => {
        if (!gone) [plan, refused] = [null, e instanceof Refused ? e : null];
      },
    );
    return () => {
      gone = true;
    };
  });

  function set(changes: Record<string, string[] | string | boolean>): void {
    const query = new URLSearchParams(router.query);
    for (const [key, value] of Object.entries(changes)) {
      const text = Array.isArray(value) ? value.join(',') : value === true ? '1' : value || '';
      if (text) query.set(key, text);
      else query.delete(key);
    }
    router.go(`/plan?${query}`, true);
  }

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
  const stands = $derived(`${live.board?.estate} · ${live.board?.stands_for}`);
  const worst = $derived(put?.plan.hits.filter((h) => h.impact.says) ?? []);
</script>

<div class="grid h-full grid-cols-[312px_minmax(0,1fr)] gap-4 max-lg:block max-lg:space-y-4">
  <Picker chosen={of} onchange={(chosen) => set({ of: chosen, standing: [], below: [] })} />
  <section class="min-w-0">
    <div class="flex flex-wrap items-center gap-2" role="group" aria-label="Wish">
      <h1 class="mr-2">Plan</h1>
      {#each offered as w (w.wish)}
        <button class="btn aria-pressed:border-accent aria-pressed:bg-accent-soft aria-pressed:text-accent" aria-pressed={w.wish === wish} title={w.does} onclick={() => set({ wish: w.wish, standing: [], below: [] })}>{name(w.wish)}</button>
      {/each}
      <label class="ml-2 flex items-center gap-1.5 text-ink2"><input type="checkbox" checked={alone} onchange={(e) => set({ alone: e.currentTarget.checked, standing: [] })} /> only these, without what belongs to them</label>
    </div>
    <p class="mt-1 text-ink2">{offered.find((w) => w.wish === wish)?.does}</p>

    {#if of.length > 0}<ThisRun services={actedOn} {overrides} {prefer} {heldAtMost} onoverrides={(o) => (overrides = o)} onprefer={(p) => (prefer = p)} onheld={(l) => (heldAtMost = l)} />{/if}
    {#if of.length === 0}
      <p class="sheet mt-4 p-4 text-ink2">Choose one or more services on the left, and see here what it comes to. Nothing is touched before you begin it.</p>
    {:else if refused}
      <p class="sheet mt-4 border-alarm p-4" role="alert"><b class="text-alarm">{refused.problem.title}.</b> {refused.message}. {refused.hint}</p>
    {:else if !plan}
      <p class="sheet mt-4 p-4 text-ink2">Working it out …</p>
    {:else}
      <div class="sheet mt-4 flex flex-wrap items-center gap-4 p-3.5">
        <p class="min-w-0 flex-1"><b>{plan.says}</b> <span class="text-ink2">About {roughly(plan.forecast.likely_ms)} in all, 9 in 10 within {roughly(plan.forecast.late_ms)}.{#if plan.felt} Felt least: {roughly(Math.max(0, plan.felt.soonest_away_ms - plan.felt.away_ms))} less without services in all{plan.felt.longer_ms > 0 ? `, ${roughly(plan.felt.longer_ms)} longer` : ''}.{/if}</span></p>
        <button class="btn btn-main" disabled={!plan.can_begin || !!live.board?.standstill} onclick={ask}>{name(wish)}…</button>
      </div>
      <p class="mt-2 flex flex-wrap items-center gap-2 text-ink2">
        <label class="flex items-center gap-2">Work on at most <input class="field w-[4.5em] py-0.5" type="number" min="1" placeholder="all" value={atOnce ?? ''} onchange={(e) => set({ 'at-once': e.currentTarget.value })} /> at once</label>
        <span class="text-ink3">{atOnce ? 'for this run' : 'as the estate allows'}</span>
      </p>
      <PlanAsks {plan} {below} {standing} onbelow={(list) => set({ below: list })} onstanding={(list) => set({ standing: list })} {freezes} onfreezes={(list) => set({ 'in-freeze': list })} />
      <PlanRanks {plan} />
    {/if}
  </section>
</div>

{#if put}
  <Confirm bind:open={asking} title="{name(wish)} {of.join(', ')}" says="{stands}. {put.plan.says} About {roughly(put.plan.forecast.likely_ms)} in all, 9 in 10 within {roughly(put.plan.forecast.late_ms)}." needsReason={freezes.length > 0} action="{name(wish)} now" onconfirm={begin}>
    {#if worst.length > 0}
      <h3 class="mt-3 text-[13px] text-ink3">Who notices</h3>
      <ul class="max-h-[26vh] overflow-auto">
        {#each worst as hit (hit.address)}
          <li class="py-0.5"><span class="font-mono text-[0.93em]">{hit.address}</span> <span class="text-ink2">{hit.impact.says} {hit.usual_ms ? `About ${roughly(hit.usual_ms)}.` : 'Until it is started again.'}</span></li>
        {/each}
      </ul>
    {/if}
  </Confirm>
{/if}
