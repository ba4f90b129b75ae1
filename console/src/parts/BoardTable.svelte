<!-- The board's rows, section by section. Of thousands only those in view are drawn. -->
<script lang="ts">
  import type { BoardRow } from '../lib/api';
  import { seenAt } from '../lib/board';
  import { live } from '../lib/live.svelte';
  import { LONG_BOARD, inView, windowOf, type View } from '../lib/windowed';
  import BoardLine from './BoardLine.svelte';

  interface Section {
    key: string;
    title: string;
    note: string;
    rows: BoardRow[];
  }
  let { sections }: { sections: Section[] } = $props();

  const HEAD = 31;
  const ROW = 32;
  let view = $state.raw<View>({ top: 0, height: 800 });
  /** A section is a block: of ten thousand rows only those that are drawn are made a line of. */
  const count = $derived(sections.reduce((n, s) => n + 1 + s.rows.length, 0));
  const long = $derived(count > LONG_BOARD);
  const window = $derived(windowOf(sections.map((s) => s.rows.length), HEAD, ROW, long ? view : null));
  const lines = $derived(
    window.lines.map(([at, i]): { key: string; section: Section; row: BoardRow | null } => {
      const section = sections[at]!;
      const row = i === null ? null : section.rows[i]!;
      return { key: row ? `${section.key} ${row.address}` : section.key, section, row };
    }),
  );
</script>

<table class="sheet w-full table-fixed border-collapse" aria-rowcount={long ? count + 1 : undefined}>
  <thead>
    <tr class="text-left text-[13.5px] text-ink3 [&>th]:px-2.5 [&>th]:py-1 [&>th]:font-medium">
      <th class="w-[402px] max-lg:w-[38%] max-md:w-auto">Service</th><th class="w-[132px] max-md:w-[112px]">State</th><th class="max-md:w-0 max-md:p-0! max-md:text-[0px]">What shows it</th><th class="w-[56px] max-md:w-[52px]">Seen</th><th class="w-[230px] max-lg:w-[160px] max-md:w-[100px]"><span class="sr-only">What can be done</span></th>
    </tr>
  </thead>
  <tbody use:inView={(v) => (view = v)}>
    {#if window.above > 0}<tr style="height: {window.above}px" aria-hidden="true"><td colspan="5"></td></tr>{/if}
    {#each lines as line (line.key)}
      {#if line.row}
        <BoardLine row={line.row} asOf={live.serverNow} at={seenAt(line.row, live.lookedAt, live.board?.behind)} />
      {:else}
        <tr class="border-y border-line bg-ground" style="height: {HEAD}px">
          <th colspan="5" scope="rowgroup" class="truncate px-2.5 pt-1.5 pb-1 text-left font-semibold">{line.section.title} <span class="ml-2 font-normal text-ink3">{line.section.note}</span></th>
        </tr>
      {/if}
    {/each}
    {#if window.below > 0}<tr style="height: {window.below}px" aria-hidden="true"><td colspan="5"></td></tr>{/if}
  </tbody>
</table>
