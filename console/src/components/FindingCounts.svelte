<script lang="ts">
  import { Tag } from "carbon-components-svelte";

  let { errors, warnings, notes }: { errors: number; warnings: number; notes: number } = $props();
  const words = (n: number, word: string) => `${n} ${word}${n === 1 ? "" : "s"}`;
</script>

{#if errors}<Tag type="red" size="sm">{words(errors, "error")}</Tag>{/if}
{#if warnings}<Tag type="magenta" size="sm">{words(warnings, "warning")}</Tag>{/if}
{#if notes}<Tag type="blue" size="sm">{words(notes, "note")}</Tag>{/if}
{#if !errors && !warnings && !notes}<Tag type="green" size="sm">no findings</Tag>{/if}
