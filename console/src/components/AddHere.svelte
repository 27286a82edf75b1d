<script lang="ts">
  import { useSvelteFlow } from "@xyflow/svelte";
  import { tick } from "svelte";
  import type { Schemas } from "../lib/api";
  import type { Place } from "../lib/layout";
  import { isName } from "../lib/names";
  import { freeName } from "../lib/written";
  import KindIcon from "./KindIcon.svelte";

  let {
    at,
    from = "",
    kinds,
    taken,
    within,
    onplace,
    onclose,
  }: {
    at: { x: number; y: number }; // on the screen
    from?: string; // the node that a link to the new one comes from
    kinds: Schemas["Catalogue"]["kinds"];
    taken: string[];
    within: DOMRect; // the board, on the screen
    onplace: (kind: string, name: string, place: Place) => Promise<string>; // says why not
    onclose: () => void;
  } = $props();

  const { screenToFlowPosition } = useSvelteFlow();
  // Nothing is linked to what starts by itself.
  const offered = $derived(from ? kinds.filter((k) => k.kind !== "schedule" && k.kind !== "endpoint") : kinds);
  let kind = $state("");
  let name = $state("");
  let wrong = $state("");
  let box = $state<HTMLElement>();
  let field = $state<HTMLInputElement>();
  const [wide, high] = [228, 248];
  const left = $derived(Math.min(Math.max(at.x - within.x, 0), Math.max(within.width - wide, 0)));
  const top = $derived(Math.min(Math.max(at.y - within.y, 0), Math.max(within.height - high, 0)));

  $effect(() => {
    box?.querySelector("button")?.focus();
  });

  async function pick(one: string) {
    kind = one;
    name = freeName(one, taken);
    await tick();
    field?.select();
  }
  async function add() {
    wrong = isName(name)
      ? await onplace(kind, name, screenToFlowPosition(at))
      : "Lower-case letters, digits and hyphens, a letter first.";
    if (!wrong) onclose();
  }
  function keys(e: KeyboardEvent) {
    e.stopPropagation();
    if (e.key === "Escape") onclose();
    const step = { ArrowDown: 2, ArrowUp: -2, ArrowRight: 1, ArrowLeft: -1 }[e.key];
    if (!step || kind) return;
    const buttons = [...(box?.querySelectorAll("button") ?? [])];
    buttons[buttons.indexOf(document.activeElement as HTMLButtonElement) + step]?.focus();
    e.preventDefault();
  }
</script>

<div
  class="nopan nodrag nowheel add-here"
  role="dialog"
  aria-label={from ? `Add what ${from} leads to` : "Add a node"}
  tabindex="-1"
  style="left: {left}px; top: {top}px; width: {wide}px"
  bind:this={box}
  onkeydown={keys}
>
  {#if !kind}
    <p>{from ? `${from} leads to a new` : "Add a"}</p>
    <div class="choices">
      {#each offered as k (k.kind)}
        <button onclick={() => pick(k.kind)} title={k.about}><KindIcon kind={k.kind} /> {k.kind}</button>
      {/each}
    </div>
  {:else}
    <p><KindIcon {kind} /> {kind}</p>
    <input
      aria-label="Name of the {kind}"
      aria-invalid={wrong !== ""}
      bind:this={field}
      bind:value={name}
      onkeydown={(e) => e.key === "Enter" && add()}
    />
    {#if wrong}<p class="wrong" role="alert">{wrong}</p>{:else}<p class="quiet">Enter adds it, Esc leaves it.</p>{/if}
  {/if}
</div>

<style>
  .add-here {
    position: absolute;
    z-index: 20;
    padding: 0.5rem;
    background: var(--cds-ui-background);
    color: var(--cds-text-01);
    border: 1px solid var(--cds-ui-04);
    box-shadow: 0 4px 12px rgb(0 0 0 / 25%);
    font-size: 0.8125rem;
  }
  .choices {
    display: grid;
    grid-template-columns: 1fr 1fr;
    gap: 0.25rem;
    padding-top: 0.25rem;
  }
  button {
    display: flex;
    align-items: center;
    gap: 0.375rem;
    padding: 0.25rem 0.375rem;
    background: var(--cds-ui-01);
    border: 1px solid transparent;
    color: inherit;
    font: inherit;
    text-align: left;
    cursor: pointer;
  }
  button:hover {
    background: var(--cds-hover-ui);
  }
  button:focus-visible,
  input:focus-visible {
    outline: 2px solid var(--cds-focus, #0f62fe);
    outline-offset: -2px;
  }
  p {
    display: flex;
    align-items: center;
    gap: 0.375rem;
    font-size: inherit;
  }
  input {
    width: 100%;
    margin: 0.375rem 0;
    padding: 0.375rem 0.5rem;
    background: var(--cds-field-01);
    border: none;
    border-bottom: 1px solid var(--cds-ui-04);
    color: inherit;
    font: inherit;
  }
  .wrong {
    color: var(--cds-support-01);
  }
</style>
