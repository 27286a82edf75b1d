<script lang="ts">
  import { Select, SelectItem, TextInput } from "carbon-components-svelte";
  import { lineOf, valueOf, type CatalogueField } from "../lib/written";

  let {
    field,
    value,
    nodes,
    disabled,
    onset,
  }: {
    field: CatalogueField;
    value: unknown;
    nodes: string[];
    disabled: boolean;
    onset: (value: unknown) => Promise<string>;
  } = $props();

  const kept = $derived(lineOf(value));
  let line = $state("");
  let wrong = $state("");
  $effect(() => {
    line = kept;
    wrong = "";
  });

  const choices = $derived(
    field.form === "choice"
      ? field.choices
      : field.form === "truth"
        ? ["true", "false"]
        : field.form === "node"
          ? nodes
          : [],
  );
  const absent = $derived(field.default ? `default: ${field.default}` : "not set");

  async function set() {
    if (line.trim() === kept) return;
    try {
      wrong = await onset(valueOf(line, field.form));
    } catch (e) {
      wrong = (e as Error).message.split("\n")[0];
    }
  }
</script>

<div class="field" data-field={field.path}>
  {#if choices.length}
    <Select
      size="sm"
      labelText={field.path}
      helperText={field.about}
      selected={line}
      on:update={({ detail }) => ((line = String(detail ?? "")), set())}
      {disabled}
      invalid={wrong !== ""}
      invalidText={wrong}
    >
      <SelectItem value="" text={absent} />
      {#each choices as c (c)}<SelectItem value={c} text={c} />{/each}
      {#if line && !choices.includes(line)}<SelectItem value={line} text={line} />{/if}
    </Select>
  {:else}
    <TextInput
      size="sm"
      labelText={field.path}
      helperText={field.about}
      placeholder={absent}
      bind:value={line}
      on:blur={set}
      on:keydown={(e) => {
        if (e.key === "Enter") set();
        if (e.key === "Escape") line = kept;
      }}
      {disabled}
      invalid={wrong !== ""}
      invalidText={wrong}
    />
  {/if}
</div>

<style>
  .field :global(.bx--label) {
    font-family: "IBM Plex Mono", monospace;
    margin-bottom: 0.125rem;
  }
  .field :global(.bx--form__helper-text) {
    margin-top: 0.125rem;
  }
</style>
