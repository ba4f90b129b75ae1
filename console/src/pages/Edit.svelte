<!-- The editor of a procedure: its steps as a list and as forms, its text beside them. Either changes the other. -->
<script lang="ts">
  import { DropdownMenu, Tabs } from 'bits-ui';

  import { Refused, api } from '../lib/api';
  import { Drafting } from '../lib/draft.svelte';
  import { live } from '../lib/live.svelte';
  import { router } from '../lib/router.svelte';
  import { COMMON, DEEDS, HEAD, QUESTION, deedOf, headLines, type Edit, type Keys } from '../lib/step-keys';
  import { roughly } from '../lib/time';
  import Confirm from '../parts/Confirm.svelte';
  import DifferenceText from '../parts/DifferenceText.svelte';
  import KeyField from '../parts/KeyField.svelte';
  import Note from '../parts/Note.svelte';
  import StepList from '../parts/StepList.svelte';
  import TomlText from '../parts/TomlText.svelte';

  let { name, copyOf }: { name: string; copyOf: string | null } = $props();

  // The page is made anew for another procedure.
  // svelte-ignore state_referenced_locally
  const draft = new Drafting(name);
  // svelte-ignore state_referenced_locally
  void draft.begin(copyOf);

  let chosen = $state<number | null>(null);
  let asking = $state(false);
  let takingOut = $state(false);
  let form = $state('step');
  let shown = $state('text');
  let newQuestion = $state('');
  let names = $state.raw<string[]>([]);
  let editor = $state<TomlText>();

  $effect(() => {
    void live.board?.edition;
    api.procedures().then((all) => (names = all.map((p) => p.name)), () => {});
  });

  $effect(() => {
    if (draft.takenBack && draft.standsAt !== null) chosen = draft.standsAt;
  });

  const steps = $derived(draft.written.steps ?? []);
  const step = $derived(chosen === null ? undefined : steps[chosen - 1]);
  const deed = $derived(step ? deedOf(step) : undefined);
  const errors = $derived(draft.found?.faults.filter((f) => f.severity === 'error') ?? []);
  const changed = $derived((draft.found?.difference.new ?? 0) + (draft.found?.difference.gone ?? 0) > 0);
  const isNew = $derived(!names.includes(name));
  const services = $derived(live.board?.services.map((s) => s.address) ?? []);
  const lists = $derived({ stop: services, start: services, restart: services, reload: services, of: services, on: live.board?.hosts.map((h) => h.name) ?? [] });
  const fields = $derived(deed ? [DEEDS[deed]!.is, ...DEEDS[deed]!.more] : []);
  /** What is wrong, by the step it is in. */
  const faulty = $derived.by(() => {
    const found = new Map<number, string>();
    const text = draft.found?.text ?? '';
    if (errors.length === 0) return found;
    const at = headLines(text);
    for (const fault of errors) {
      const line = at.filter((head) => head <= fault.line).length;
      if (fault.line > 0 && line > 0) found.set(line, `${fault.message}; ${fault.mend}`);
    }
    return found;
  });

  const change = (line: number, set: Keys): void => draft.edit({ edit: 'change', line, set });
  function add(what: string): void {
    const line = (chosen ?? steps.length) + 1;
    const begin = DEEDS[what]!.begin;
    const first = services[0] ?? 'name';
    const value = Array.isArray(begin) && begin.length === 0 ? [first] : begin;
    draft.edit({ edit: 'insert', line, step: { [what]: value, ...(what === 'act' ? { of: [first] } : {}) } });
    chosen = line;
    form = 'step';
  }
  function remove(line: number): void {
    draft.edit({ edit: 'remove', line });
    chosen = steps.length === 0 ? null : Math.min(line, steps.length);
  }
  function repeat(line: number): void {
    const { name: _, ...copy } = steps[line - 1] ?? {};
    draft.edit({ edit: 'insert', line: line + 1, step: copy });
    chosen = line + 1;
  }
  const move = (line: number, to: number): void => draft.edit({ edit: 'move', line, to });

  /** Another thing to do: what only the one before could say goes. */
  function turn(into: string): void {
    if (chosen === null || !step || !deed) return;
    const keep = new Set([...COMMON, ...DEEDS[into]!.more].map((f) => f.key).concat('title'));
    const gone = Object.fromEntries(Object.keys(step).filter((k) => !keep.has(k)).map((k) => [k, null]));
    const isServices = Array.isArray(DEEDS[into]!.begin) && DEEDS[into]!.begin.length === 0;
    const same = isServices && DEEDS[deed]!.more === DEEDS[into]!.more;
    change(chosen, { ...gone, [into]: same ? step[deed] : isServices ? [services[0] ?? 'name'] : DEEDS[into]!.begin, ...(into === 'act' ? { of: [services[0] ?? 'name'] } : {}) });
  }
  function ask(event: Event): void {
    event.preventDefault();
    const key = newQuestion.trim();
    if (!key) return;
    draft.edit({ edit: 'ask', name: key, set: { asks: `Which ${key}?` } });
    newQuestion = '';
  }
  const setQuestion = (key: string, set: Keys): void => draft.edit({ edit: 'ask', name: key, set } as Edit);

  async function keep(why: string): Promise<string | null> {
    return sent({ text: draft.text, edition: draft.edition, why });
  }
  async function takeOut(why: string): Promise<string | null> {
    return sent({ text: null, edition: draft.edition, why });
  }
  async function sent(request: { text: string | null; edition: number; why: string }): Promise<string | null> {
    try {
      await api.edit(name, request);
      draft.done();
      router.go(request.text === null ? '/procedures' : `/procedures/${name}`);
      return null;
    } catch (error) {
      if (error instanceof Refused) return `${error.message}. ${error.hint}`;
      throw error;
    }
  }
  function shortcuts(event: KeyboardEvent): void {
    if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === 's') {
      event.preventDefault();
      if (changed && draft.found?.good && !draft.busy) asking = true;
    }
  }
</script>

<svelte:window onkeydown={shortcuts} />

{#if draft.refused && !draft.found}
  <Note title={draft.refused.problem.title} tone="alarm"><p>{draft.refused.message}. {draft.refused.hint}</p></Note>
{:else if !draft.found}
  <Note title="Looking …" />
{:else}
  <div class="flex h-full min-h-[560px] flex-col">
    <div class="flex flex-wrap items-center gap-x-3 gap-y-1">
      <h1 class="max-w-[36ch] truncate">{draft.written.title ?? name}</h1>
      <span class="font-mono text-[13px] text-ink3">{name} · {isNew ? 'new' : `edition ${draft.found.edition}`}</span>
      <span class="flex-1"></span>
      <span class="text-[14px] text-ink2" role="status" data-at={draft.answers}>
        {#if errors.length > 0}<b class="text-alarm">{errors.length} error{errors.length === 1 ? '' : 's'}</b>
        {:else if draft.found.forecast}Likely <b>{roughly(draft.found.forecast.likely_ms)}</b>, 9 in 10 within {roughly(draft.found.forecast.late_ms)} · {draft.found.forecast.steps} steps
        {:else}It asks before it can be forecast{/if}
      </span>
      <a class="btn" href={isNew ? '/procedures' : `/procedures/${name}`}>Leave</a>
      {#if changed}<button class="btn" onclick={() => draft.discard()}>Discard</button>{/if}
      {#if !isNew}<button class="btn" onclick={() => (takingOut = true)}>Take out…</button>{/if}
      <button class="btn btn-main" disabled={!changed || !draft.found.good} onclick={() => (asking = true)}>Keep…</button>
    </div>
    {#if draft.restored && changed}<p class="mt-2 border border-moving bg-moving-soft px-3 py-1.5">What you left here unkept is back. Keep it, or discard it.</p>{/if}
    {#if draft.takenBack}<p class="mt-2 border border-alarm bg-alarm-soft px-3 py-1.5" role="alert">{draft.takenBack}</p>{/if}
    {#if draft.refused}<p class="mt-2 border border-alarm bg-alarm-soft px-3 py-1.5" role="alert">{draft.refused.message}. {draft.refused.hint}</p>{/if}

    <div class="mt-3 grid min-h-0 flex-1 grid-cols-[minmax(280px,1.05fr)_minmax(250px,0.85fr)_minmax(280px,1.1fr)] gap-3 max-lg:grid-cols-1 max-lg:grid-rows-[minmax(220px,auto)_auto_minmax(320px,auto)]">
      <section class="flex min-h-0 min-w-0 flex-col" aria-label="Arrange the steps">
        <div class="mb-2 flex items-center gap-1.5">
          <DropdownMenu.Root>
            <DropdownMenu.Trigger class="btn btn-small">Add step ▾</DropdownMenu.Trigger>
            <DropdownMenu.Portal>
              <DropdownMenu.Content class="sheet z-50 max-h-[70vh] overflow-auto rounded-md p-1 shadow-xl" align="start" sideOffset={4}>
                {#each Object.entries(DEEDS) as [key, d] (key)}
                  <DropdownMenu.Item class="cursor-pointer rounded px-3 py-1 data-[highlighted]:bg-accent-soft" onSelect={() => add(key)}>{d.name}</DropdownMenu.Item>
                {/each}
              </DropdownMenu.Content>
            </DropdownMenu.Portal>
          </DropdownMenu.Root>
          <button class="btn btn-small" disabled={chosen === null || chosen < 2} onclick={() => chosen && (move(chosen, chosen - 1), (chosen -= 1))} aria-label="Move up" title="Alt+Up">↑</button>
          <button class="btn btn-small" disabled={chosen === null || chosen >= steps.length} onclick={() => chosen && (move(chosen, chosen + 1), (chosen += 1))} aria-label="Move down" title="Alt+Down">↓</button>
          <button class="btn btn-small" disabled={!step} onclick={() => chosen && repeat(chosen)} title="Ctrl+D">Repeat</button>
          <button class="btn btn-small" disabled={!step} onclick={() => chosen && remove(chosen)} title="Delete">Remove</button>
        </div>
        <div class="min-h-0 flex-1 max-lg:h-[300px] max-lg:flex-none">
          <StepList {steps} ends={draft.found.forecast?.lines_ms ?? []} {faulty} {chosen} onchoose={(line) => ([chosen, form] = [line, 'step'])} onmove={move} onremove={remove} onadd={() => add('pause')} onrepeat={repeat} />
        </div>
        <p class="mt-1 text-[13px] text-ink3">Drag by ⠿, or Alt with the arrows. Ctrl+S keeps.</p>
      </section>

      <section class="flex min-h-0 min-w-0 flex-col" aria-label="Form">
        <Tabs.Root bind:value={form} class="flex min-h-0 flex-1 flex-col">
          <Tabs.List class="mb-2 flex gap-1.5">
            {#each [['step', chosen ? `Step ${chosen}` : 'Step'], ['head', 'Procedure'], ['questions', `Questions ${Object.keys(draft.written.questions ?? {}).length || ''}`]] as const as [key, says] (key)}
              <Tabs.Trigger value={key} class="btn btn-small data-[state=active]:border-accent data-[state=active]:bg-accent-soft data-[state=active]:text-accent">{says}</Tabs.Trigger>
            {/each}
          </Tabs.List>
          <Tabs.Content value="step" class="sheet min-h-0 flex-1 overflow-auto p-3">
            {#if !step || chosen === null}
              <p class="text-ink2">Choose a step, or add one.</p>
            {:else}
              {#key chosen}
              <div class="grid grid-cols-2 items-end gap-x-2.5">
                {#if faulty.has(chosen)}<p class="col-span-2 mb-2 border border-alarm bg-alarm-soft px-2.5 py-1.5" role="alert">{faulty.get(chosen)}</p>{/if}
                <label class="col-span-2 block"><span class="block text-[14px] leading-tight text-ink2">Does</span>
                  <select class="field mt-0.5 w-full" value={deed ?? ''} onchange={(e) => turn(e.currentTarget.value)}>
                    {#if !deed}<option value="">nothing yet</option>{/if}
                    {#each Object.entries(DEEDS) as [key, d] (key)}<option value={key}>{d.name}</option>{/each}
                  </select>
                </label>
                <KeyField field={{ key: 'title', label: 'Title', kind: 'text', hint: 'what people call it' }} value={step.title} onset={(v) => chosen && change(chosen, { title: v })} />
                {#each fields as field (field.key)}<KeyField {field} {lists} value={step[field.key]} onset={(v) => chosen && change(chosen, { [field.key]: v })} />{/each}
                <hr class="col-span-2 mt-3 border-line2" />
                {#each COMMON as field (field.key)}<KeyField {field} value={step[field.key]} procedures={names.filter((n) => n !== name)} onset={(v) => chosen && change(chosen, { [field.key]: v })} />{/each}
              </div>
              {/key}
            {/if}
          </Tabs.Content>
          <Tabs.Content value="head" class="sheet min-h-0 flex-1 overflow-auto p-3">
            <div class="grid grid-cols-2 items-end gap-x-2.5">
            {#each HEAD as field (field.key)}<KeyField {field} value={(draft.written as Keys)[field.key]} procedures={names.filter((n) => n !== name)} onset={(v) => draft.edit({ edit: 'head', set: { [field.key]: v } })} />{/each}
            </div>
          </Tabs.Content>
          <Tabs.Content value="questions" class="sheet min-h-0 flex-1 overflow-auto p-3">
            {#each Object.entries(draft.written.questions ?? {}) as [key, question] (key)}
              <section class="mb-4 grid grid-cols-2 items-end gap-x-2.5" aria-label="Question {key}">
                <h3 class="col-span-2 flex items-center gap-2"><span class="font-mono font-semibold">{`{${key}}`}</span><span class="flex-1"></span><button class="btn btn-small" onclick={() => draft.edit({ edit: 'ask', name: key, set: null })}>Remove</button></h3>
                {#each QUESTION as field (field.key)}<KeyField {field} value={question[field.key]} onset={(v) => setQuestion(key, { [field.key]: v })} />{/each}
              </section>
            {:else}
              <p class="text-ink2">It asks nothing before it begins. An answer is used in steps as <code class="font-mono">{'{name}'}</code>.</p>
            {/each}
            <form class="mt-2 flex gap-2" onsubmit={ask}>
              <input class="field min-w-0 flex-1" placeholder="package" aria-label="Name of a question" pattern="[a-z][a-z0-9_]*" title="a small letter, then small letters, digits and _" bind:value={newQuestion} />
              <button class="btn" type="submit">Ask this too</button>
            </form>
          </Tabs.Content>
        </Tabs.Root>
      </section>

      <section class="flex min-h-0 min-w-0 flex-col" aria-label="Text">
        <Tabs.Root bind:value={shown} class="flex min-h-0 flex-1 flex-col">
          <Tabs.List class="mb-2 flex items-center gap-1">
            {#each [['text', 'TOML'], ['difference', `Difference ${changed ? `+${draft.found.difference.new} −${draft.found.difference.gone}` : ''}`], ['faults', `Faults ${draft.found.faults.length || ''}`]] as const as [key, says] (key)}
              <Tabs.Trigger value={key} class="btn btn-small data-[state=active]:border-accent data-[state=active]:bg-accent-soft data-[state=active]:text-accent">{says}</Tabs.Trigger>
            {/each}
            <span class="flex-1"></span>
            <button class="btn btn-small" onclick={() => editor?.back()} title="Ctrl+Z in the text">Undo</button>
            <button class="btn btn-small" onclick={() => editor?.forth()} title="Ctrl+Y in the text">Redo</button>
          </Tabs.List>
          <div class="sheet min-h-0 flex-1 overflow-hidden max-lg:h-[420px]" class:hidden={shown !== 'text'}>
            <TomlText bind:this={editor} text={draft.text} faults={draft.found.faults} step={chosen} ontype={(text) => draft.type(text)} onstep={(line) => line > 0 && line <= steps.length && ([chosen, form] = [line, 'step'])} />
          </div>
          {#if shown === 'difference'}<div class="sheet min-h-0 flex-1 overflow-auto py-1"><DifferenceText difference={draft.found.difference} /></div>{/if}
          {#if shown === 'faults'}
            <ul class="sheet min-h-0 flex-1 overflow-auto">
              {#each draft.found.faults as fault, i (i)}
                <li class="border-b border-line2 px-3 py-2"><b class={fault.severity === 'error' ? 'text-alarm' : 'text-moving'}>{fault.severity}{fault.line > 0 ? `, line ${fault.line}` : ', elsewhere'}</b> {fault.message}<span class="block text-ink2">{fault.mend}</span></li>
              {:else}<li class="p-3 text-ink2">No faults.</li>{/each}
            </ul>
          {/if}
        </Tabs.Root>
      </section>
    </div>
  </div>

  <Confirm bind:open={asking} title="Keep {name} as a new edition" says="{live.board?.estate} · {live.board?.stands_for}. Runs that go on keep the edition they were begun by." action="Keep it" needsReason onconfirm={keep}>
    <div class="mt-3 max-h-[40vh] overflow-auto border border-line"><DifferenceText difference={draft.found.difference} /></div>
  </Confirm>
  <Confirm bind:open={takingOut} title="Take {name} out of the estate" says="{live.board?.estate} · {live.board?.stands_for}. It stays in the editions there were." action="Take it out" alarm needsReason onconfirm={takeOut} />
{/if}
