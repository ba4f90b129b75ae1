<!-- The steps of a procedure, arranged by drag or by keyboard. Only those in view are drawn: there may be thousands. -->
<script lang="ts">
  import { DEEDS, deedOf, stepSays, type Keys } from '../lib/step-keys';
  import { roughly } from '../lib/time';

  let { steps, ends, faulty, chosen, onchoose, onmove, onremove, onadd, onrepeat }: { steps: Keys[]; ends: number[]; faulty: Map<number, string>; chosen: number | null; onchoose: (line: number) => void; onmove: (line: number, to: number) => void; onremove: (line: number) => void; onadd: () => void; onrepeat: (line: number) => void } = $props();

  const ROW = 30;
  let box = $state<HTMLDivElement>();
  let top = $state(0);
  let height = $state(600);
  let dragged = $state<number | null>(null);
  let over = $state<number | null>(null);

  const from = $derived(Math.max(0, Math.floor(top / ROW) - 6));
  const to = $derived(Math.min(steps.length, Math.ceil((top + height) / ROW) + 6));
  const shown = $derived(steps.slice(from, to));

  // What is chosen comes into view.
  $effect(() => {
    if (chosen === null || !box) return;
    const y = (chosen - 1) * ROW;
    if (y < box.scrollTop) box.scrollTop = y;
    else if (y + ROW > box.scrollTop + box.clientHeight) box.scrollTop = y + ROW - box.clientHeight;
  });

  function keys(event: KeyboardEvent): void {
    const line = chosen ?? 0;
    const go: Record<string, number> = { ArrowDown: line + 1, ArrowUp: line - 1, Home: 1, End: steps.length, PageDown: line + 12, PageUp: line - 12 };
    const next = go[event.key];
    if (next !== undefined) {
      const target = Math.min(steps.length, Math.max(1, next));
      if (event.altKey && line > 0) {
        if (target !== line) {
          onmove(line, target);
          onchoose(target);
        }
      } else onchoose(target);
    } else if (event.key === 'Delete' && line > 0) onremove(line);
    else if (event.key === 'Insert') onadd();
    else if (event.key === 'd' && (event.ctrlKey || event.metaKey) && line > 0) onrepeat(line);
    else return;
    event.preventDefault();
  }

  function grab(event: PointerEvent, line: number): void {
    if (event.button !== 0) return;
    event.preventDefault();
    (event.currentTarget as Element).setPointerCapture(event.pointerId);
    dragged = line;
    over = line;
    onchoose(line);
  }
  function drag(event: PointerEvent): void {
    if (dragged === null || !box) return;
    const within = box.getBoundingClientRect();
    if (event.clientY < within.top + 20) box.scrollTop -= 12;
    if (event.clientY > within.bottom - 20) box.scrollTop += 12;
    over = Math.min(steps.length, Math.max(1, Math.floor((event.clientY - within.top + box.scrollTop) / ROW) + 1));
  }
  function drop(): void {
    if (dragged !== null && over !== null && over !== dragged) {
      onmove(dragged, over);
      onchoose(over);
    }
    dragged = null;
    over = null;
  }
</script>

<div
  bind:this={box}
  bind:clientHeight={height}
  class="sheet h-full min-h-[120px] overflow-auto outline-offset-[-2px]"
  role="listbox"
  tabindex="0"
  aria-label="Steps"
  aria-activedescendant={chosen ? `step-${chosen}` : undefined}
  onscroll={() => (top = box?.scrollTop ?? 0)}
  onkeydown={keys}
>
  {#if steps.length === 0}<p class="p-4 text-ink2">No steps yet. Add the first one above, or write it beside.</p>{/if}
  <div class="relative" style="height:{steps.length * ROW}px">
    {#each shown as step, i (from + i)}
      {@const line = from + i + 1}
      {@const fault = faulty.get(line)}
      <div
        id="step-{line}"
        role="option"
        tabindex="-1"
        aria-selected={chosen === line}
        class="absolute right-0 left-0 flex cursor-pointer items-center gap-1.5 border-b border-line2 pr-2.5 {chosen === line ? 'bg-accent-soft' : ''} {dragged === line ? 'opacity-45' : ''}"
        style="top:{(line - 1) * ROW}px;height:{ROW}px"
        onclick={() => (onchoose(line), box?.focus())}
        onkeydown={() => {}}
        title={fault}
      >
        {#if over === line && dragged !== null && dragged !== line}<span class="absolute right-0 left-0 h-[3px] bg-accent {dragged < line ? 'bottom-0' : 'top-0'}"></span>{/if}
        <!-- svelte-ignore a11y_no_static_element_interactions -->
        <span class="flex h-full w-[20px] flex-none cursor-grab touch-none items-center justify-center text-ink3 select-none" data-grip={line} onpointerdown={(e) => grab(e, line)} onpointermove={drag} onpointerup={drop} onpointercancel={() => (dragged = over = null)}>⠿</span>
        <span class="w-[2.1em] flex-none text-right text-[13px] text-ink3">{step.alongside ? '‖ ' : ''}{line}</span>
        <span class="min-w-0 flex-1 truncate {fault ? 'text-alarm' : ''}">{#if fault}<b>!&nbsp;</b>{/if}{stepSays(step)}</span>
        <span class="flex-none text-[13px] text-ink3">{step.preflight ? 'preflight' : (DEEDS[deedOf(step) ?? '']?.short ?? '')}</span>
        <span class="w-[3.1em] flex-none text-right text-[13px] text-ink3" title="likely ended, from the begin">{ends[line - 1] ? roughly(ends[line - 1] ?? 0) : ''}</span>
      </div>
    {/each}
  </div>
</div>
