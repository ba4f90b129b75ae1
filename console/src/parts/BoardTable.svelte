<!-- The board's rows, section by section. -->
<script lang="ts">
  import type { BoardRow } from '../lib/api';
  import { live } from '../lib/live.svelte';
  import BoardLine from './BoardLine.svelte';

  let { sections }: { sections: { key: string; title: string; note: string; rows: BoardRow[] }[] } = $props();
</script>

<table class="sheet w-full table-fixed border-collapse">
  <thead>
    <tr class="text-left text-[13.5px] text-ink3 [&>th]:px-2.5 [&>th]:py-1 [&>th]:font-medium">
      <th class="w-[402px] max-lg:w-[44%] max-md:w-auto">Service</th><th class="w-[132px] max-md:w-[112px]">State</th><th class="max-md:w-0 max-md:p-0! max-md:text-[0px]">What shows it</th><th class="w-[56px] max-md:w-[52px]">Seen</th><th class="w-[230px] max-lg:w-[160px] max-md:w-[100px]"><span class="sr-only">What can be done</span></th>
    </tr>
  </thead>
  {#each sections as section (section.key)}
    <tbody>
      <tr class="border-y border-line bg-ground">
        <th colspan="5" scope="rowgroup" class="px-2.5 pt-1.5 pb-1 text-left font-semibold">{section.title} <span class="ml-2 font-normal text-ink3">{section.note}</span></th>
      </tr>
      {#each section.rows as row (row.address)}
        <BoardLine {row} asOf={live.serverNow} />
      {/each}
    </tbody>
  {/each}
</table>
