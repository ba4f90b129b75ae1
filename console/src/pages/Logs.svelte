<!-- The logs of several services together, with the acts between their lines: search, pause, only what matches. -->
<script lang="ts">
  import { tick } from 'svelte';

  import { KEPT, matches, next, pieces, shown as kept, type LogLine } from '../lib/log-lines';
  import { live } from '../lib/live.svelte';
  import { router } from '../lib/router.svelte';
  import { moment, ms } from '../lib/time';
  import Picker from '../parts/Picker.svelte';

  const of = $derived((router.query.get('of') ?? '').split(',').filter(Boolean));
  const run = $derived(router.query.get('run'));

  let lines = $state.raw<LogLine[]>([]);
  let held = $state.raw<LogLine[]>([]);
  let paused = $state(false);
  let search = $state('');
  let only = $state(false);
  let at = $state<number | null>(null);
  let isCut = $state(false);
  let choosing = $state(false);
  let box = $state<HTMLDivElement>();

  const shown = $derived(kept(lines, search, only));
  const found = $derived(search ? lines.filter((l) => matches(l, search)).length : 0);

  /** Logs of each service, as far as lines of them came: where it has several, each line says of which it is. */
  const logsOf = $derived.by(() => {
    const all = new Map<string, Set<string>>();
    for (const l of lines) if (!l.act) all.set(l.address, (all.get(l.address) ?? new Set<string>()).add(l.source));
    return all;
  });
  const logName = (source: string): string => (source.startsWith('journal:') ? 'journal' : (source.split('/').at(-1) ?? source));
  /** The whole address stands in every row. */
  const names = $derived(Math.max(8, ...lines.map((l) => l.address.length)));

  // The stream is given back while nobody looks: a browser has few.
  let visible = $state(document.visibilityState === 'visible');
  $effect(() => {
    const [chosen, from] = [of.join(','), run];
    lines = [];
    held = [];
    at = null;
    if (!chosen || !visible) return;
    const stream = new EventSource(`/api/v1/logs?follow=true&lines=200&of=${encodeURIComponent(chosen)}${from ? `&run=${from}` : ''}`);
    let waiting: LogLine[] = [];
    let drawn = 0;
    // Drawn once a frame, however many lines come.
    const draw = (): void => {
      drawn = 0;
      const more = waiting;
      waiting = [];
      if (paused) held = [...held, ...more].slice(-KEPT);
      else {
        const first = lines.length === 0;
        lines = [...lines, ...more].slice(-KEPT);
        // A run that ended is read from its first act on; one that goes on is followed.
        if (first && from && !live.board?.open_runs.some((r) => r.id === Number(from))) void jump(true, (l) => l.act?.run === Number(from));
        else void toEnd();
      }
    };
    stream.addEventListener('line', (event) => {
      waiting.push(JSON.parse((event as MessageEvent<string>).data) as LogLine);
      drawn ||= requestAnimationFrame(draw);
    });
    stream.onopen = () => {
      isCut = false;
      // Opened anew it begins anew.
      [lines, held, waiting] = [[], [], []];
    };
    stream.onerror = () => (isCut = true);
    return () => {
      stream.close();
      cancelAnimationFrame(drawn);
    };
  });

  async function toEnd(): Promise<void> {
    await tick();
    if (box && at === null) box.scrollTop = box.scrollHeight;
  }
  function pause(): void {
    paused = !paused;
    if (!paused) {
      lines = [...lines, ...held].slice(-KEPT);
      held = [];
      at = null;
      void toEnd();
    }
  }
  async function jump(forwards: boolean, wanted: (line: LogLine) => boolean): Promise<void> {
    if (!paused) pause();
    const from = at ?? (forwards ? -1 : shown.length);
    const place = next(shown, from, forwards, wanted);
    if (place < 0 || place >= shown.length) return;
    at = place;
    await tick();
    box?.querySelector(`[data-line="${place}"]`)?.scrollIntoView({ block: 'center' });
  }
  const toAct = (forwards: boolean): Promise<void> => jump(forwards, (l) => !!l.act);
  const toMatch = (forwards: boolean): Promise<void> => jump(forwards, (l) => matches(l, search));

  function choose(chosen: string[]): void {
    router.go(`/logs${chosen.length > 0 ? `?of=${chosen.join(',')}` : ''}`, true);
  }
  function keys(event: KeyboardEvent): void {
    const typing = event.target instanceof HTMLInputElement || event.target instanceof HTMLTextAreaElement || event.target instanceof HTMLSelectElement;
    if (typing || event.ctrlKey || event.metaKey || event.altKey) return;
    const does: Record<string, () => void> = { ' ': pause, n: () => void toMatch(false), N: () => void toMatch(true), a: () => void toAct(false), A: () => void toAct(true), o: () => (only = !only), '/': () => document.querySelector<HTMLInputElement>('#search')?.focus() };
    const action = does[event.key];
    if (action && !(event.key === ' ' && event.target instanceof HTMLButtonElement)) {
      event.preventDefault();
      action();
    }
  }
</script>

<svelte:window onkeydown={keys} />
<svelte:document onvisibilitychange={() => (visible = document.visibilityState === 'visible')} />

<div class="flex h-full flex-col">
  <div class="flex flex-wrap items-center gap-2">
    <h1 class="mr-1">Logs</h1>
    <button class="btn btn-small" aria-expanded={choosing} onclick={() => (choosing = !choosing)}>{of.length === 0 ? 'Choose services' : `${of.length} service${of.length === 1 ? '' : 's'}`} ▾</button>
    <input id="search" class="field w-[16em] py-0.5" type="search" placeholder="Search" aria-label="Search" bind:value={search} onkeydown={(e) => e.key === 'Enter' && (e.preventDefault(), void toMatch(e.shiftKey))} />
    {#if search}<span class="text-[14px] text-ink3">{found} match{found === 1 ? 'es' : ''}</span>{/if}
    <button class="btn btn-small" disabled={!search} onclick={() => toMatch(false)} aria-label="Match before" title="n">↑</button>
    <button class="btn btn-small" disabled={!search} onclick={() => toMatch(true)} aria-label="Match after" title="N">↓</button>
    <label class="flex items-center gap-1.5 text-ink2"><input type="checkbox" bind:checked={only} disabled={!search} /> only matching</label>
    <span class="flex-1"></span>
    <button class="btn btn-small" onclick={() => toAct(false)} title="a">Act before</button>
    <button class="btn btn-small" onclick={() => toAct(true)} title="A">Act after</button>
    <button class="btn btn-small aria-pressed:border-moving aria-pressed:bg-moving-soft" aria-pressed={paused} onclick={pause} title="Space">{paused ? `Go on${held.length > 0 ? `, ${held.length} new` : ''}` : 'Pause'}</button>
  </div>
  {#if run}<p class="mt-1 text-ink2">From the first act of <a class="text-accent underline" href="/runs/{run}">run {run}</a> on. <a class="text-accent underline" href="/logs?of={of.join(',')}">From now on instead</a></p>{/if}
  {#if isCut}<p class="mt-1 text-alarm" role="alert">The stream is cut; it is taken up again by itself.</p>{/if}
  <div class="mt-2 flex min-h-0 flex-1 gap-3">
    {#if choosing || of.length === 0}<div class="flex w-[290px] flex-none flex-col"><Picker chosen={of} onchange={choose} /></div>{/if}
    <div bind:this={box} class="sheet min-w-0 flex-1 overflow-auto py-1 font-mono text-[13px]" role="log" aria-label="Lines">
      {#each shown as line, i (i)}
        {#if line.act}
          <a data-line={i} href="/runs/{line.act.run}" class="my-0.5 flex gap-3 px-2 font-semibold text-moving hover:underline {at === i ? 'bg-accent-soft' : 'bg-moving-soft'}"><span class="flex-none" style="width:{names}ch">{line.address}</span><span>{moment(ms(line.act.at))} {line.text}</span></a>
        {:else}
          <div data-line={i} class="flex gap-3 px-2 [content-visibility:auto] {at === i ? 'bg-accent-soft' : ''}"><span class="flex-none text-ink3" style="width:{names}ch">{line.address}</span><span class="min-w-0 break-words whitespace-pre-wrap {line.unreadable ? 'text-alarm' : ''}">{#if line.unreadable}{line.source}: {:else if (logsOf.get(line.address)?.size ?? 0) > 1}<span class="text-ink3">{logName(line.source)} </span>{/if}{#if line.when}<span class="text-ink3">{moment(ms(line.when))} </span>{/if}{#each pieces(line.text, search) as piece, j (j)}{#if piece.hit}<mark class="bg-moving-soft font-semibold text-ink">{piece.text}</mark>{:else}{piece.text}{/if}{/each}</span></div>
        {/if}
      {:else}
        <p class="p-4 font-sans text-ink2">{of.length === 0 ? 'Choose one or more services on the left: their lines come together here, in the order of their times.' : only && search ? 'Nothing matches.' : live.board ? 'Nothing is written yet.' : 'Looking …'}</p>
      {/each}
    </div>
  </div>
  <p class="mt-1 text-[13px] text-ink3">/ search · n N match before, after · a A act before, after · o only matching · Space pause</p>
</div>
