<script lang="ts">
  import { Tag } from "carbon-components-svelte";

  let {
    errors,
    warnings,
    notes,
    empty = false,
  }: { errors: number; warnings: number; notes: number; empty?: boolean } = $props(); // empty: of a model without nodes
  const words = (n: number, word: string) => `${n} ${word}${n === 1 ? "" : "s"}`;
</script>

{#if errors}<Tag type="red" size="sm">{words(errors, "error")}</Tag>{/if}
{#if warnings}<Tag class="warnings" size="sm">{words(warnings, "warning")}</Tag>{/if}
{#if notes}<Tag type="blue" size="sm">{words(notes, "note")}</Tag>{/if}
{#if empty}<Tag type="gray" size="sm">empty</Tag>
{:else if !errors && !warnings && !notes}<Tag type="green" size="sm">no findings</Tag>{/if}
