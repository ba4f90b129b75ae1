<!-- What a step asks a person, with the answers that it takes. -->
<script lang="ts">
  import { Refused, api, type RunView, type StepView } from '../lib/api';
  import { clock, ms } from '../lib/time';

  let { run, step, onchange }: { run: RunView; step: StepView; onchange: (run: RunView) => void } = $props();

  const now = $derived(step.now.state === 'asking' ? step.now : null);
  const task = $derived(step.planned.task?.kind === 'question' ? step.planned.task : null);
  const leadsTo = (value: string): string => run.allowed.find((a) => a.kind === 'answer' && a.step === step.planned.id && a.value === value)?.leads_to ?? '';
  let value = $state('');
  let refused = $state<string | null>(null);

  async function answer(given: string): Promise<void> {
    try {
      onchange(await api.decide(run.id, { kind: 'answer', step: step.planned.id, value: given, hold: null, shown: null, why: null }));
    } catch (error) {
      if (!(error instanceof Refused)) throw error;
      refused = `${error.message}. ${error.hint}`;
    }
  }
</script>

{#if now}
  <section class="mt-2 border border-accent bg-accent-soft px-3.5 py-2.5" aria-label="Question of step {step.planned.id}">
    <p class="text-[17px] font-semibold">{now.reason}</p>
    {#if task?.look_at}<p class="text-ink2">Look at {task.look_at}.</p>{/if}
    {#if task?.who?.length}<p class="text-ink2">For {task.who.join(' or ')} to answer.</p>{/if}
    {#if now.until}<p class="text-ink2">Until {clock(ms(now.until))}; after that it {task?.unanswered === 'yes' ? 'counts as yes' : task?.unanswered === 'no' ? 'counts as no' : 'has failed'}.</p>{/if}
    {#if now.answer === 'value'}
      <form class="mt-2 flex gap-2" onsubmit={(e) => { e.preventDefault(); void answer(value); }}>
        <input class="field w-[min(340px,60vw)]" bind:value required aria-label="Answer" />
        <button class="btn btn-main" type="submit">Answer</button>
      </form>
    {:else}
      <div class="mt-2 flex flex-wrap items-center gap-2">
        <button class="btn btn-main" title={leadsTo('yes')} onclick={() => answer('yes')}>Yes</button>
        <button class="btn" title={leadsTo('no')} onclick={() => answer('no')}>No</button>
        <span class="text-[14px] text-ink2">“No” {leadsTo('no')}.</span>
      </div>
    {/if}
    {#if refused}<p class="mt-1 text-alarm" role="alert">{refused}</p>{/if}
  </section>
{/if}
