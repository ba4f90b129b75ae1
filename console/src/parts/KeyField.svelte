<!-- One key of a step, a question or a rung, as a field. What is changed is told when the field is left. -->
<script lang="ts">
  import { RUNGS, readAs, shownAs, type Field, type Keys } from '../lib/step-keys';
  import { word } from '../lib/states';
  import KeyField from './KeyField.svelte';

  let { field, value, onset, procedures = [], lists = {} }: { field: Field; value: unknown; onset: (value: unknown) => void; procedures?: string[]; lists?: Record<string, string[]> } = $props();

  /** Short answers stand two in a row. */
  const short = $derived((field.kind === 'text' || field.kind === 'number' || field.kind === 'numbers') && field.key !== 'title' && !['asks', 'look_at', 'url', 'path', 'act', 'to'].includes(field.key));
  const shown = $derived(shownAs(field.kind, value));
  const keys = $derived((value && typeof value === 'object' && !Array.isArray(value) ? value : {}) as Keys);
  const rungs = $derived((Array.isArray(value) ? value : []) as Keys[]);
  const rule = $derived(value && typeof value === 'object' && 'divert' in value ? `divert:${String(value.divert)}` : typeof value === 'string' ? value : '');
  const within = (key: string, next: unknown): Keys => {
    const out = { ...keys, [key]: next };
    if (next === null || next === '' || next === false || (Array.isArray(next) && next.length === 0)) delete out[key];
    return out;
  };
  // A rung of another kind begins with what both kinds have.
  const turned = (rung: Keys, kind: string): Keys => Object.fromEntries([['rung', kind], ...(RUNGS[kind] ?? []).filter((f) => f.key in rung).map((f) => [f.key, rung[f.key]])]);
</script>

{#snippet rungFields(rung: Keys, set: (rung: Keys) => void)}
  <div class="mt-1 grid grid-cols-2 items-end gap-x-2.5 border-l-2 border-line pl-2.5">
    <select class="field col-span-2 w-full py-0.5" aria-label="Kind of rung" value={String(rung.rung ?? '')} onchange={(e) => set(turned(rung, e.currentTarget.value))}>
      {#each Object.keys(RUNGS) as kind (kind)}<option value={kind}>{word(kind)}</option>{/each}
    </select>
    {#each RUNGS[String(rung.rung)] ?? [] as inner (inner.key)}
      <KeyField
        field={inner}
        value={rung[inner.key]}
        onset={(next) => {
          const out = { ...rung, [inner.key]: next };
          if (next === null || next === '' || next === false || (Array.isArray(next) && next.length === 0)) delete out[inner.key];
          set(out);
        }}
      />
    {/each}
  </div>
{/snippet}

{#if field.kind === 'flag'}
  <label class="col-span-2 mt-1.5 flex items-baseline gap-2">
    <input type="checkbox" checked={value === true} onchange={(e) => onset(e.currentTarget.checked)} />
    <span>{field.label}{#if field.hint}<span class="text-[13px] text-ink3">: {field.hint}</span>{/if}</span>
  </label>
{:else if field.kind === 'keys'}
  <fieldset class="col-span-2 mt-2">
    <legend class="text-ink2">{field.label}</legend>
    <div class="grid grid-cols-2 items-end gap-x-2.5 border-l-2 border-line pl-2.5">
      {#each field.fields ?? [] as inner (inner.key)}<KeyField field={inner} value={keys[inner.key]} onset={(next) => onset(within(inner.key, next))} />{/each}
    </div>
  </fieldset>
{:else if field.kind === 'rung'}
  <fieldset class="col-span-2 mt-2"><legend class="text-ink2">{field.label}</legend>{@render rungFields(keys, onset)}</fieldset>
{:else if field.kind === 'rungs'}
  <fieldset class="col-span-2 mt-2">
    <legend class="text-ink2">{field.label}</legend>
    {#each rungs as rung, i (i)}
      {@render rungFields(rung, (next) => onset(rungs.map((r, j) => (j === i ? next : r))))}
      {#if rungs.length > 1}<button class="btn btn-small mt-1" type="button" onclick={() => onset(rungs.filter((_, j) => j !== i))}>Take this one out</button>{/if}
    {/each}
    <button class="btn btn-small mt-1.5" type="button" onclick={() => onset([...rungs, { rung: 'file', path: '/tmp/ready' }])}>And until …</button>
  </fieldset>
{:else}
  <label class="mt-1.5 block min-w-0 {short ? '' : 'col-span-2'}">
    <span class="block text-[14px] leading-tight text-ink2">{field.label}</span>
    {#if field.kind === 'choice'}
      <select class="field mt-0.5 w-full" value={shown} onchange={(e) => onset(e.currentTarget.value)}>
        {#each field.choices ?? [] as [choice, says] (choice)}<option value={choice}>{says}</option>{/each}
      </select>
    {:else if field.kind === 'rule'}
      <select class="field mt-0.5 w-full" value={rule} onchange={(e) => onset(e.currentTarget.value.startsWith('divert:') ? { divert: e.currentTarget.value.slice(7) } : e.currentTarget.value)}>
        <option value="">as the service, its group or the procedure says</option>
        <option value="hold">hold</option><option value="carry-on">carry on</option><option value="put-back">put back</option>
        {#each procedures as name (name)}<option value="divert:{name}">divert to {name}</option>{/each}
      </select>
    {:else if field.kind === 'long' || field.kind === 'lines' || field.kind === 'pairs'}
      <textarea class="field mt-0.5 w-full font-mono text-[13px]" rows={Math.min(8, Math.max(2, shown.split('\n').length))} placeholder={field.hint} value={shown} onchange={(e) => onset(readAs(field.kind, e.currentTarget.value))}></textarea>
    {:else}
      <input class="field mt-0.5 w-full" placeholder={field.hint} value={shown} list={lists[field.key] ? `list-${field.key}` : undefined} onchange={(e) => onset(readAs(field.kind, e.currentTarget.value))} />
      {#if lists[field.key]}<datalist id="list-{field.key}">{#each lists[field.key] ?? [] as known (known)}<option value={known}></option>{/each}</datalist>{/if}
    {/if}
  </label>
{/if}
