<!-- Notes on a run, and who has it: for those who take over. -->
<script lang="ts">
  import { Refused, api, type RunView } from '../lib/api';
  import { clock, ms } from '../lib/time';

  let { run, onchange }: { run: RunView; onchange: (run: RunView) => void } = $props();
  let text = $state('');
  let refused = $state<string | null>(null);

  async function send(what: () => Promise<RunView>): Promise<void> {
    try {
      onchange(await what());
      text = '';
      refused = null;
    } catch (error) {
      if (!(error instanceof Refused)) throw error;
      refused = `${error.message}. ${error.hint}`;
    }
  }
</script>

<section class="sheet mt-2.5 px-3.5 py-2.5" aria-label="Notes">
  <div class="flex flex-wrap items-center gap-3">
    <h2>Notes</h2>
    <span class="text-ink2">{run.taken_by} has it</span>
    {#if !run.ended_at}<button class="btn btn-small" onclick={() => send(() => api.takeOn(run.id))}>I have it</button>{/if}
    <form class="ml-auto flex flex-1 justify-end gap-2" onsubmit={(e) => { e.preventDefault(); void send(() => api.note(run.id, text)); }}>
      <input class="field w-[min(420px,50vw)] py-0.5" bind:value={text} required placeholder="What the next one should know" aria-label="Note" />
      <button class="btn btn-small" type="submit">Note it</button>
    </form>
  </div>
  {#each run.notes as note (note.at + note.text)}
    <p class="mt-1"><span class="text-ink3">{clock(ms(note.at))} {note.who}</span> {note.text}</p>
  {/each}
  {#if refused}<p class="mt-1 text-alarm" role="alert">{refused}</p>{/if}
</section>
