<script lang="ts">
  import type { Snippet } from "svelte";

  /** Makes what it holds when it is first wanted, and keeps it: dialogs that are not opened cost a page nothing. */
  let { wanted, children }: { wanted: boolean; children: Snippet } = $props();
  let made = $state(false);
  $effect.pre(() => {
    if (wanted) made = true;
  });
</script>

{#if made}{@render children()}{/if}
