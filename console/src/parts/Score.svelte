<!-- A run drawn as lanes against time. The table beside it has the same facts for those who do not see it. -->
<script lang="ts">
  import { scaleTime } from 'd3-scale';

  import type { RunView } from '../lib/api';
  import { BETWEEN, score, type Layout, type Shape } from '../lib/score';
  import { clock, ms } from '../lib/time';
  import { LONG, inView, type View } from '../lib/windowed';

  let { run, now, shown, onchoose, layout, lastMoment = null }: { run: RunView; now: number; shown: number | null; /** Kept by whoever shows it, so that it is made once. */ layout: Layout; lastMoment?: number | null; onchoose: (step: number) => void } = $props();

  const LANE = 25;
  const HEAD = 23;
  const TOP = 28;
  let width = $state(1000);
  let lanes: SVGSVGElement | undefined = $state();

  // The lane whose evidence is shown stays in view.
  $effect(() => {
    if (shown !== null) lanes?.querySelector('[data-shown="true"]')?.scrollIntoView({ block: 'nearest' });
  });

  /** Of a long run only the lanes in view are drawn, and the time is told less often. */
  const long = $derived(run.steps.length > LONG);
  let view = $state.raw<View>({ top: 0, height: 800 });
  // No more lanes than this are before the view, and as many are in it.
  const within = $derived<[number, number]>(long ? [Math.max(0, Math.floor((view.top - TOP) / (LANE + HEAD)) - 20), Math.ceil((view.top + view.height) / LANE) + 20] : [0, Infinity]);
  const told = $derived(run.steps.length > 4000 ? Math.floor(now / 5000) * 5000 : now);
  const drawn = $derived(score(run, told, within, layout));
  /** Room for the names: what is no service's is told in words. */
  // What is between the services stands first.
  const NAMES = $derived(drawn.lanes[0]?.host === BETWEEN ? 236 : 172);
  const x = $derived(scaleTime().domain([drawn.from, drawn.to + (drawn.failed ? (drawn.to - drawn.from) * 0.25 : 0)]).range([NAMES, Math.max(NAMES + 100, width - 8)]));
  /** The window's end, where it comes into view. */
  const wall = $derived(run.window && x(ms(run.window.ends_at)) < width - 4 ? ms(run.window.ends_at) : null);
  const ticks = $derived(x.ticks(Math.max(2, Math.floor((width - NAMES) / 130))));

  interface Row {
    host: string | null;
    y: number;
    lane: (typeof drawn.lanes)[number] | null;
  }
  const rows = $derived.by(() => {
    const all: Row[] = [];
    let y = TOP;
    let host = '';
    for (const lane of drawn.lanes) {
      if (lane.host !== host) {
        host = lane.host;
        all.push({ host, y, lane: null });
        y += HEAD;
      }
      all.push({ host: null, y, lane });
      y += LANE;
    }
    return { all, height: y + 8 };
  });
  const inSight = $derived(long ? rows.all.filter((r) => r.y > view.top - 200 && r.y < view.top + view.height + 200) : rows.all);
  /** As much of a text as fits; all of it stands beside the step's evidence. */
  const cut = (text: string, room: number): string => {
    const letters = Math.max(12, Math.floor(room / 6.6));
    return text.length > letters ? `${text.slice(0, letters - 1)}…` : text;
  };
  const w = (s: { from: number; to: number }): number => Math.max(2, x(s.to) - x(s.from));
  const fill: Record<Shape['kind'], string> = { pause: 'url(#hatch)', sink: 'var(--rest)', act: 'var(--accent)', fail: 'var(--alarm)', prove: 'var(--proven-soft)', ghost: 'none', wait: 'var(--line)' };
</script>

<div bind:clientWidth={width} use:inView={(v) => (view = v)}>
  <svg bind:this={lanes} {width} height={rows.height} class="block" role="img" aria-label="Score of run {run.id}: {run.steps.length} steps against time. The table has the same facts.">
    <defs>
      <pattern id="hatch" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)"><line x1="0" y1="0" x2="0" y2="6" stroke="var(--ink3)" stroke-width="1.6" /></pattern>
    </defs>
    {#each ticks as tick (tick.getTime())}
      <line x1={x(tick)} x2={x(tick)} y1="24" y2={rows.height} stroke="var(--line2)" />
      <text x={x(tick) + 4} y="17" class="fill-ink2 text-[13px]">{clock(tick.getTime())}</text>
    {/each}
    {#each inSight as row (row.lane?.address ?? row.host)}
      {#if row.lane}
        {@const lane = row.lane}
        {@const own = lane.steps.includes(shown ?? -1)}
        <!-- svelte-ignore a11y_click_events_have_key_events, a11y_no_static_element_interactions -->
        <g class="cursor-pointer" data-shown={own} onclick={() => onchoose(lane.failed ? (lane.steps.at(-1) ?? 0) : own && lane.steps.length > 1 ? (lane.steps.find((s) => s !== shown) ?? 0) : (lane.steps.at(-1) ?? 0))}>
          <rect x="0" y={row.y} {width} height={LANE} fill={own ? 'var(--accent-soft)' : 'transparent'} />
          <text x="24" y={row.y + 18} class="fill-ink text-[13px] {lane.host === BETWEEN ? '' : 'font-mono'}">{lane.host === BETWEEN ? cut(lane.name, NAMES - 34) : lane.name}<title>{lane.name}</title></text>
          <line x1={NAMES} x2={width} y1={row.y + LANE} y2={row.y + LANE} stroke="var(--line2)" />
          {#each lane.ghosts as ghost, i (i)}
            <rect x={x(ghost.from)} y={row.y + 19} width={w(ghost)} height="3" fill={ghost.critical ? 'var(--ink3)' : 'var(--line)'} opacity="0.8" />
          {/each}
          {#each lane.shapes as shape, i (i)}
            <rect
              x={x(shape.from)} y={row.y + 4} width={w(shape)} height="14" fill={fill[shape.kind]}
              stroke={shape.kind === 'ghost' ? 'var(--ink3)' : shape.kind === 'pause' ? 'var(--line)' : 'none'}
              stroke-dasharray={shape.kind === 'ghost' ? '3 3' : undefined} rx={shape.kind === 'ghost' ? 2 : 0}
            />
            {#if shape.kind === 'prove'}
              <rect x={x(shape.from)} y={row.y + 15} width={w(shape)} height="3" fill="var(--proven)" />
              {#each shape.ticks as tick, t (t)}<line x1={x(tick)} x2={x(tick)} y1={row.y + 5} y2={row.y + 15} stroke="var(--proven)" stroke-width="2.2" />{/each}
              {#if shape.proven}<circle cx={x(shape.to)} cy={row.y + 11} r="4.6" fill="var(--proven)" />{/if}
            {/if}
          {/each}
          {#if lane.asked !== null}<text x={x(lane.asked) + 5} y={row.y + 17} class="fill-accent text-[15px] font-bold">? waits for an answer</text>{/if}
          {#if lane.failed}
            {@const fx = x(lane.failed.at)}
            <path d="M{fx + 5} {row.y + 6}l10 10m0 -10l-10 10" stroke="var(--alarm)" stroke-width="2.4" />
            <text x={fx + 21} y={row.y + 16} class="fill-alarm text-[13px] font-semibold" paint-order="stroke" stroke="var(--accent-soft)" stroke-width="4">{cut(lane.failed.says, width - fx - 30)}</text>
          {/if}
        </g>
      {:else}
        <text x="10" y={row.y + 18} class="fill-ink text-[14px] font-semibold">{row.host}</text>
      {/if}
    {/each}
    {#if lastMoment !== null && x(lastMoment) < width - 8}
      <line x1={x(lastMoment)} x2={x(lastMoment)} y1="24" y2={rows.height} stroke="var(--moving)" stroke-width="1.6" stroke-dasharray="5 3" />
      <text x={x(lastMoment) - 4} y="17" text-anchor="end" class="fill-moving text-[13px] font-semibold">last moment to put back</text>
    {/if}
    {#if wall !== null}
      <rect x={x(wall)} y="24" width={Math.max(4, width - x(wall))} height={rows.height - 24} fill="var(--alarm-soft)" opacity="0.6" />
      <line x1={x(wall)} x2={x(wall)} y1="4" y2={rows.height} stroke="var(--alarm)" stroke-width="3" />
      <text x={x(wall) - 5} y="17" text-anchor="end" class="fill-alarm text-[13px] font-semibold">{run.window?.title} ends</text>
    {/if}
    {#if drawn.now !== null}
      {@const at = x(drawn.now)}
      <line x1={at} x2={at} y1="22" y2={rows.height} stroke="var(--accent)" stroke-width="1.6" />
      <rect x={at - 20} y="3" width="40" height="19" rx="3" fill="var(--accent)" />
      <text x={at} y="17" text-anchor="middle" class="fill-on-accent text-[13px] font-semibold">now</text>
    {/if}
  </svg>
</div>
