<!-- A service's full address, its host quieter than its name. -->
<script lang="ts">
  let { address }: { address: string } = $props();
  const cut = $derived(address.indexOf('/') + 1);
</script>

<span class="font-mono text-[0.93em] whitespace-nowrap max-md:whitespace-normal"><span class="text-ink3">{address.slice(0, cut)}</span><wbr class="md:hidden" />{address.slice(cut)}</span>
