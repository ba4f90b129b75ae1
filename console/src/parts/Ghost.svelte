<!-- The score of a rehearsal: all ghost. Each lane a service or a piece of work, against the time it likely takes. -->
<script lang="ts">
  import { scaleLinear } from 'd3-scale';

  import type { Rehearsal } from '../lib/api';
  import { ghosts } from '../lib/ghost';
  import { roughly } from '../lib/time';

  let { rehearsal, shown, onchoose }: { rehearsal: Rehearsal; shown: number | null; onchoose: (step: number) => void } = $props();

  const NAMES = 236;
  const LANE = 22;
  const TOP = 26;
  let width = $state(800);
  const drawn = $derived(ghosts(rehearsal));
  const x = $derived(scaleLinear().domain([0, drawn.to]).range([NAMES, Math.max(NAMES + 100, width - 10)]));
  const ticks = $derived(x.ticks(Math.max(2, Math.floor((width - NAMES) / 90))));
  const height = $derived(TOP + drawn.lanes.length * LANE + 6);
</script>

<div bind:clientWidth={width}>
  <svg {width} {height} class="block" role="img" aria-label="Rehearsal score: {rehearsal.plan.sequence.steps.length} steps against time">
    {#each ticks as tick (tick)}
      <line x1={x(tick)} x2={x(tick)} y1="20" y2={height} stroke="var(--line2)" />
      <text x={x(tick) + 3} y="15" class="fill-ink2 text-[12.5px]">{tick === 0 ? '0' : roughly(tick)}</text>
    {/each}
    {#each drawn.lanes as lane, i (lane.name)}
      {@const y = TOP + i * LANE}
      {#if lane.steps.includes(shown ?? -1)}<rect x="0" {y} {width} height={LANE} fill="var(--accent-soft)" />{/if}
      <text x="10" y={y + 16} class="text-[13px] {lane.isService ? 'fill-ink font-mono' : 'fill-ink font-semibold'}">{lane.name.length > 30 ? `${lane.name.slice(0, 29)}…` : lane.name}<title>{lane.name}</title></text>
      <line x1="0" x2={width} y1={y + LANE} y2={y + LANE} stroke="var(--line2)" />
      {#each lane.bars as bar (bar.step)}
        <!-- svelte-ignore a11y_click_events_have_key_events, a11y_no_static_element_interactions -->
        <g class="cursor-pointer" onclick={() => onchoose(bar.step)} role="button" tabindex="0" aria-label="Step {bar.step}: {bar.says}" onkeydown={(e) => (e.key === 'Enter' || e.key === ' ') && onchoose(bar.step)}>
          <title>Step {bar.step}: {bar.says}, {roughly(bar.to - bar.from)}, 9 in 10 done by {roughly(bar.late)}</title>
          {#if bar.late > bar.to}<rect x={x(bar.to)} y={y + 9} width={Math.max(0, x(bar.late) - x(bar.to))} height="4" fill="var(--line)" />{/if}
          <rect
            x={x(bar.from)} y={y + 4} width={Math.max(3, x(bar.to) - x(bar.from))} height="14" rx="2"
            fill={bar.kind === 'stop' ? 'var(--rest)' : bar.kind === 'start' ? 'var(--proven-soft)' : 'var(--accent-soft)'} fill-opacity={bar.kind === 'stop' ? 0.35 : 1}
            stroke={bar.step === shown ? 'var(--alarm)' : bar.critical ? 'var(--accent)' : 'var(--ink3)'} stroke-width={bar.critical || bar.step === shown ? 1.8 : 1} stroke-dasharray={bar.step === shown ? undefined : '3 2'}
          />
        </g>
      {/each}
    {/each}
  </svg>
</div>
