<!-- Every run, the newest first. -->
<script lang="ts">
  import { api, type RunSummary } from '../lib/api';
  import { live } from '../lib/live.svelte';
  import { runHue } from '../lib/states';
  import { day, ms, roughly } from '../lib/time';
  import Note from '../parts/Note.svelte';

  let runs = $state.raw<RunSummary[] | null>(null);
  let next = $state<number | null>(null);

  async function load(): Promise<void> {
    const page = await api.runs();
    runs = page.runs;
    next = page.next ?? null;
  }
  async function more(): Promise<void> {
    if (next === null) return;
    const page = await api.runs(next);
    runs = [...(runs ?? []), ...page.runs];
    next = page.next ?? null;
  }
  $effect(() => {
    void load();
    let wanted: ReturnType<typeof setTimeout> | null = null;
    const off = live.onRun(() => {
      wanted ??= setTimeout(() => {
        wanted = null;
        void load();
      }, 300);
    });
    return () => {
      off();
      if (wanted) clearTimeout(wanted);
    };
  });
</script>

<h1>Runs</h1>
{#if runs === null}
  <Note title="Looking …" />
{:else if runs.length === 0}
  <Note title="No runs yet"><p>A run stops, starts or restarts services in the right order, each step proven. <a class="text-accent underline" href="/plan">Plan one.</a></p></Note>
{:else}
  <table class="sheet mt-3 w-full border-collapse">
    <thead>
      <tr class="text-left text-[13.5px] text-ink3 [&>th]:px-2.5 [&>th]:py-1 [&>th]:font-medium">
        <th class="w-[64px] max-md:w-[44px]">Run</th><th>What</th><th class="w-[200px] max-md:w-auto">State</th><th class="w-[90px] max-md:hidden">Steps</th><th class="w-[110px] max-md:hidden">By</th><th class="w-[150px] max-md:w-auto">Begun</th><th class="w-[90px] max-md:hidden">Took</th>
      </tr>
    </thead>
    <tbody>
      {#each runs as run (run.id)}
        <tr class="border-t border-line2 [&>td]:px-2.5 [&>td]:py-1">
          <td><a class="text-accent underline" href="/runs/{run.id}">{run.id}</a></td>
          <td><a class="hover:underline" href="/runs/{run.id}">{run.title}</a></td>
          <td class="font-semibold" style="color: var(--{runHue(run.state)})">{run.state}</td>
          <td class="text-ink2 max-md:hidden">{run.steps_ended} of {run.steps}</td>
          <td class="text-ink2 max-md:hidden">{run.who}</td>
          <td class="whitespace-nowrap text-ink2 max-md:whitespace-normal">{day(ms(run.began_at))}</td>
          <td class="text-ink2 max-md:hidden">{run.ended_at ? roughly(ms(run.ended_at) - ms(run.began_at)) : '–'}</td>
        </tr>
      {/each}
    </tbody>
  </table>
  {#if next !== null}<button class="btn mt-3" onclick={more}>Older ones</button>{/if}
{/if}
