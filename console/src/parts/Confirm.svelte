<!-- Asks before something is done, naming what will be hit. -->
<script lang="ts">
  import { AlertDialog } from 'bits-ui';
  import type { Snippet } from 'svelte';

  let {
    open = $bindable(false),
    title,
    says,
    action,
    alarm = false,
    needsReason = false,
    onconfirm,
    children,
  }: {
    open?: boolean;
    title: string;
    says: string;
    action: string;
    alarm?: boolean;
    needsReason?: boolean;
    onconfirm: (why: string) => Promise<string | null>;
    children?: Snippet;
  } = $props();

  let why = $state('');
  let busy = $state(false);
  let refused = $state<string | null>(null);

  async function confirm(event: Event): Promise<void> {
    event.preventDefault();
    if (busy || (needsReason && !why.trim())) return;
    busy = true;
    refused = await onconfirm(why.trim());
    busy = false;
    if (refused === null) {
      open = false;
      why = '';
    }
  }
</script>

<AlertDialog.Root bind:open onOpenChange={() => (refused = null)}>
  <AlertDialog.Portal>
    <AlertDialog.Overlay class="fixed inset-0 z-40 bg-ink/40 dark:bg-ground/80" />
    <AlertDialog.Content class="sheet fixed top-1/2 left-1/2 z-50 max-h-[86vh] w-[min(620px,94vw)] -translate-x-1/2 -translate-y-1/2 overflow-auto rounded-md p-5 shadow-xl">
      <form onsubmit={confirm}>
        <AlertDialog.Title level={2} class="text-[18px] font-[650]">{title}</AlertDialog.Title>
        <AlertDialog.Description class="mt-2 text-ink2">{says}</AlertDialog.Description>
        {@render children?.()}
        <label class="mt-4 block">
          <span class="text-ink2">Why{needsReason ? '' : ' (for the record; may be left empty)'}</span>
          <input class="field mt-1 w-full" bind:value={why} required={needsReason} />
        </label>
        {#if refused}<p class="mt-3 text-alarm" role="alert">{refused}</p>{/if}
        <div class="mt-5 flex justify-end gap-3">
          <AlertDialog.Cancel class="btn" type="button">Leave it</AlertDialog.Cancel>
          <button class="btn {alarm ? 'btn-alarm' : 'btn-main'}" type="submit" disabled={busy || (needsReason && !why.trim())}>{action}</button>
        </div>
      </form>
    </AlertDialog.Content>
  </AlertDialog.Portal>
</AlertDialog.Root>
