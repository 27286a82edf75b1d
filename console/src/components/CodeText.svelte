<script lang="ts">
  import { pieces } from "../lib/code";

  let { text }: { text: string } = $props();
</script>

{#each pieces(text) as p, i (i)}{#if p.code}<code>{p.text}</code>{:else}{p.text}{/if}{/each}

<style>
  code {
    font-family: "IBM Plex Mono", monospace;
    font-size: 0.95em;
    overflow-wrap: anywhere;
  }
</style>
