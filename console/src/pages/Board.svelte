<!-- How everything stands now. -->
<script lang="ts">
  import type { BoardRow } from '../lib/api';
  import { api } from '../lib/api';
  import { isFound } from '../lib/board';
  import { live } from '../lib/live.svelte';
  import { router } from '../lib/router.svelte';
  import { rowHue } from '../lib/states';
  import { clock, ms, roughly } from '../lib/time';
  import BoardTable from '../parts/BoardTable.svelte';

  const board = $derived(live.board);
  const by = $derived(router.query.get('by') === 'group' ? 'group' : 'host');
  const show = $derived(router.query.get('show'));
  const find = $derived(router.query.get('find') ?? '');
  let looking = $state(false);

  const wanted = $derived(find.toLowerCase());
  const rows = $derived(
    (board?.services ?? []).filter(
      (r) =>
        (show !== 'differs' || r.differs) &&
        (show !== 'owed' || r.restart_owed) &&
        (!wanted || isFound(r, wanted)),
    ),
  );

  interface Count {
    name: string;
    hue: string;
    n: number;
  }
  const counts = $derived.by(() => {
    const name = (r: BoardRow): string =>
      r.failed_in_run
        ? 'failed in a run'
        : r.seen.state !== 'down'
          ? r.seen.state.replaceAll('-', ' ')
          : !r.differs
            ? 'down as expected'
            : typeof r.in_run === 'number'
              ? 'down, in a run'
              : 'down, expected up';
    const all = new Map<string, Count>();
    for (const r of board?.services ?? []) {
      const key = name(r);
      const known = all.get(key) ?? { name: key, hue: rowHue(r), n: 0 };
      known.n += 1;
      all.set(key, known);
    }
    const order = ['failed in a run', 'down, expected up', 'ailing', 'out of reach', 'down, in a run', 'rising', 'sinking', 'unknown', 'proven', 'down as expected'];
    return [...all.values()].sort((a, b) => order.indexOf(a.name) - order.indexOf(b.name));
  });

  interface Section {
    key: string;
    title: string;
    note: string;
    rows: BoardRow[];
  }
  const sections = $derived.by((): Section[] => {
    if (by === 'host') {
      const on = new Map<string, BoardRow[]>();
      for (const r of rows) {
        const host = r.address.slice(0, r.address.indexOf('/'));
        const there = on.get(host);
        if (there) there.push(r);
        else on.set(host, [r]);
      }
      return (board?.hosts ?? []).flatMap((h) => {
        const there = on.get(h.name);
        return there ? [{ key: h.name, title: h.name, note: `${h.address}${h.title ? ` · ${h.title}` : ''}`, rows: there }] : [];
      });
    }
    const groups = [...new Set(rows.flatMap((r) => r.groups))].sort();
    const grouped = groups.map((g) => ({ key: g, title: g, note: '', rows: rows.filter((r) => r.groups.includes(g)) }));
    const alone = rows.filter((r) => r.groups.length === 0);
    return alone.length > 0 ? [...grouped, { key: '', title: 'in no group', note: '', rows: alone }] : grouped;
  });

  function set(key: string, value: string): void {
    const query = new URLSearchParams(router.query);
    if (value) query.set(key, value);
    else query.delete(key);
    router.go(`/?${query}`, true);
  }

  async function look(): Promise<void> {
    looking = true;
    try {
      live.take(await api.look());
    } finally {
      looking = false;
    }
  }
</script>

<div class="flex flex-wrap items-center gap-3">
  <h1>{show === 'differs' ? 'Differs from expected' : show === 'owed' ? 'Restart owed' : 'Board'}</h1>
  <span class="flex-1"></span>
  <div class="flex" role="group" aria-label="Order">
    {#each ['host', 'group'] as const as way (way)}
      <button class="btn rounded-none first:rounded-l-[5px] last:rounded-r-[5px] last:border-l-0 aria-pressed:bg-accent-soft aria-pressed:text-accent" aria-pressed={by === way} onclick={() => set('by', way === 'host' ? '' : way)}>By {way}</button>
    {/each}
  </div>
  <input class="field w-[210px]" type="search" placeholder="Find a service or host" aria-label="Find a service or host" value={find} oninput={(e) => set('find', e.currentTarget.value)} />
  <button class="btn" onclick={look} disabled={looking}>{looking ? 'Looking …' : 'Look again'}</button>
</div>

{#if board?.storage_trouble}
  <p class="mt-3 border border-alarm bg-alarm-soft px-3 py-2" role="alert">Nothing is begun: {board.storage_trouble}. What is under way keeps its outcome.</p>
{/if}
{#each (board?.hosts ?? []).filter((h) => h.link && !h.link.up) as h (h.name)}
  <p class="mt-3 border border-line bg-sunk px-3 py-2" role="alert"><b>{h.name} is out of reach</b> since {clock(ms(h.link!.since))}: {h.link!.why}.{#if h.link!.mend}<span class="block text-ink2">{h.link!.mend}</span>{/if}</p>
{/each}
{#each (board?.hosts ?? []).filter((h) => h.link?.up && Math.abs(h.link.clock_ahead_ms ?? 0) >= 2000) as h (h.name)}
  <p class="mt-3 text-ink2">The clock of <b>{h.name}</b> is {roughly(Math.abs(h.link!.clock_ahead_ms!))} {h.link!.clock_ahead_ms! > 0 ? 'ahead of' : 'behind'} the server's.</p>
{/each}
{#each (board?.hosts ?? []).filter((h) => h.kept) as h (h.name)}
  <p class="mt-3 border border-alarm bg-alarm-soft px-3 py-2" role="alert"><b>{h.name} is not acted on:</b> {h.kept}. Once that is settled: <span class="font-mono">yantro take-over {h.name} --why …</span></p>
{/each}
{#if board?.standstill}
  <p class="mt-3 border border-alarm bg-alarm-soft px-3 py-2" role="alert">Everything is at a standstill: {board.standstill}. Looking goes on.</p>
{/if}

<div class="mt-2.5 flex flex-wrap items-baseline gap-x-6">
  {#each counts as c (c.name)}
    <span class="text-ink2"><b class="text-[23px] font-[650]" style="color: var(--{c.hue})">{c.n}</b> {c.name}</span>
  {/each}
</div>
<div class="mt-1.5 mb-3 flex h-[7px] gap-0.5" aria-hidden="true">
  {#each counts as c (c.name)}<i class="block rounded-[1px]" style="flex: {c.n}; background: var(--{c.hue})"></i>{/each}
</div>

{#if rows.length === 0}
  <p class="sheet p-4 text-ink2">{show === 'differs' ? 'Nothing differs from what is expected.' : show === 'owed' ? 'No restart is owed.' : 'Nothing matches.'}</p>
{:else}
  <BoardTable {sections} />
{/if}
