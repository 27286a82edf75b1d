<script lang="ts">
  import { tick } from "svelte";
  import type { Board } from "../lib/api";
  import { isName } from "../lib/names";
  import { together } from "../lib/several";

  /** What can be done with several nodes at once. */
  let {
    names,
    board,
    document,
    onamend,
    onremove,
    onclose,
  }: {
    names: string[];
    board: Board;
    document: Record<string, unknown>; // the model as it is written
    onamend: (patch: Record<string, unknown>) => Promise<string>; // says why not
    onremove: () => void;
    onclose: () => void;
  } = $props();

  type Asked = "tag" | "owner" | "group";
  const asks: Record<Asked, { does: string; label: string; hint: string }> = {
    tag: { does: "Tag", label: "Tag of these nodes", hint: "team=customs" },
    owner: { does: "Owner", label: "Owner of these nodes", hint: "who is responsible" },
    group: { does: "Fail together", label: "Group that fails together", hint: "island-power" },
  };
  let asked = $state<Asked | "">("");
  let value = $state("");
  let wrong = $state("");
  let field = $state<HTMLInputElement>();
  const known: Record<Asked, string[]> = $derived({
    tag: [...new Set(board.nodes.flatMap((n) => Object.entries(n.tags).map(([key, v]) => `${key}=${v}`)))],
    owner: [...new Set(board.nodes.map((n) => n.owner).filter(Boolean))],
    group: Object.keys((document["fails-together"] as object | undefined) ?? {}),
  });

  async function ask(what: Asked) {
    [asked, value, wrong] = [what, "", ""];
    await tick();
    field?.focus();
  }
  const each = (fields: object) => ({ nodes: Object.fromEntries(names.map((n) => [n, fields])) });
  async function give(e: Event) {
    e.preventDefault();
    const text = value.trim();
    const [key, of] = text.split("=").map((part) => part.trim());
    if (asked === "tag" && !(key && of)) wrong = "Write a tag as key=value.";
    else if (asked === "group" && !isName(text)) wrong = "Lower-case letters, digits and hyphens, a letter first.";
    else if (asked === "owner" && !text) wrong = "Who is it?";
    else {
      wrong = await onamend(
        asked === "tag"
          ? each({ tags: { [key]: of } })
          : asked === "owner"
            ? each({ owner: text })
            : together(document, text, names),
      );
      if (!wrong) asked = "";
    }
  }
</script>

<div
  class="several nopan nodrag nowheel"
  role="toolbar"
  tabindex="-1"
  aria-label="{names.length} nodes"
  onkeydown={(e) => {
    e.stopPropagation();
    if (e.key !== "Escape") return;
    if (asked) asked = "";
    else onclose();
  }}
>
  <span>{names.length} nodes</span>
  {#if asked}
    <form onsubmit={give}>
      <input
        aria-label={asks[asked].label}
        aria-invalid={wrong !== ""}
        placeholder={asks[asked].hint}
        list="several-known"
        bind:this={field}
        bind:value
      />
      <datalist id="several-known"
        >{#each known[asked] as one (one)}<option value={one}></option>{/each}</datalist
      >
      <button type="submit">Set</button>
      <button type="button" onclick={() => (asked = "")}>Cancel</button>
    </form>
    {#if wrong}<span class="wrong" role="alert">{wrong}</span>{/if}
  {:else}
    {#each Object.entries(asks) as [what, { does }] (what)}
      <button onclick={() => ask(what as Asked)}>{does}…</button>
    {/each}
    <button class="danger" onclick={onremove}>Remove</button>
    <button aria-label="Choose none" onclick={onclose}>✕</button>
  {/if}
</div>

<style>
  .several {
    position: absolute;
    z-index: 20;
    bottom: 0.75rem;
    left: 50%;
    transform: translateX(-50%);
    display: flex;
    flex-wrap: wrap;
    align-items: center;
    gap: 0.25rem 0.5rem;
    max-width: calc(100% - 1.5rem);
    padding: 0.25rem 0.5rem 0.25rem 0.75rem;
    background: var(--cds-ui-background);
    color: var(--cds-text-01);
    border: 1px solid var(--cds-ui-04);
    box-shadow: 0 4px 12px rgb(0 0 0 / 25%);
    font-size: 0.8125rem;
  }
  form {
    display: flex;
    gap: 0.25rem;
  }
  input {
    width: 12rem;
    padding: 0.25rem 0.375rem;
    background: var(--cds-field-01);
    color: inherit;
    border: 0;
    border-bottom: 1px solid var(--cds-ui-04);
    font-size: inherit;
  }
  button {
    min-height: 1.75rem;
    padding: 0.25rem 0.5rem;
    background: var(--cds-ui-01);
    color: inherit;
    border: 1px solid transparent;
    font-size: inherit;
    cursor: pointer;
  }
  button:hover,
  button:focus-visible {
    border-color: var(--cds-interactive-01);
  }
  .danger,
  .wrong {
    color: var(--cds-text-error, #da1e28);
  }
</style>
