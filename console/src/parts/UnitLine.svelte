<!-- One service of a host's manager, as it was found. -->
<script lang="ts">
  import type { FoundUnit } from '../lib/api';

  let { unit, chosen, ontoggle }: { unit: FoundUnit; chosen: boolean; ontoggle: () => void } = $props();
  const ports = $derived([...new Set(unit.ports.map((p) => p.port))].sort((a, b) => a - b));
</script>

<tr class="border-t border-line2 align-top [&>td]:px-2.5 [&>td]:py-1" class:bg-accent-soft={chosen}>
  <td class="pl-3">{#if !unit.described_as}<input type="checkbox" checked={chosen} onchange={ontoggle} aria-label="Take {unit.unit} in" />{/if}</td>
  <td><span class="font-mono text-[14px] break-all">{unit.unit}</span><span class="block truncate text-[14px] text-ink3" title={[unit.title, ...unit.needs].join(', ')}>{unit.title}{#if unit.needs.length > 0}{unit.title ? ' · ' : ''}needs {unit.needs.join(', ')}{/if}</span></td>
  <td class="text-ink2">{unit.state}<span class="block text-[13.5px] text-ink3">at boot: {unit.at_boot || 'unknown'}</span></td>
  <td class="font-mono text-[14px]">{ports.join(', ')}</td>
  <td class="max-md:hidden">{#if unit.described_as}<a class="font-mono text-[14px] text-accent underline" href="/map?of={encodeURIComponent(unit.described_as)}">{unit.described_as}</a>{:else}<span class="text-ink3">{unit.plumbing ? 'the system’s own' : 'not described'}</span>{/if}</td>
</tr>
