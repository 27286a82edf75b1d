<!-- Draws a page anew where another of its kind is opened: the next run, another model. -->
<script lang="ts">
  import type { Snippet } from "svelte";
  import { route } from "../router";

  let { children }: { children: Snippet } = $props();
</script>

{#key route.pathname}
  {@render children()}
{/key}
