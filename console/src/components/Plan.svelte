<script lang="ts">
  import { Button } from "carbon-components-svelte";
  import Tools from "carbon-icons-svelte/lib/Tools.svelte";
  import { api, sentence, type Schemas } from "../lib/api";
  import CodeText from "./CodeText.svelte";

  type Remedy = Schemas["CheckRemedy"];
  let { text, onapply }: { text: string; onapply: (changes: Remedy[]) => void } = $props();

  let plan = $state.raw<Schemas["MendDocument"] | undefined>();
  let of = $state(""); // the text that the plan is for
  let busy = $state(false);
  let trouble = $state("");

  async function find() {
    busy = true;
    of = text;
    const { data, error } = await api.POST("/api/v1/mend", { body: { text } });
    [plan, trouble, busy] = [data, error ? sentence(error) : "", false];
  }
  const current = $derived(of === text ? plan : undefined);
</script>

<div class="plan" class:full={trouble || current}>
  {#if trouble}
    <p>{trouble}</p>
  {:else if !current}
    <Button kind="ghost" size="small" icon={Tools} disabled={busy} on:click={find}
      >{busy ? "Looking for a plan…" : "Find the fewest changes"}</Button
    >
  {:else}
    <p>
      {#if current.met}
        <b>{current.changes?.length} {current.changes?.length === 1 ? "change leaves" : "changes leave"} no error</b>
      {:else}
        <b>No plan removes every error.</b>
        {#each current.unsolved ?? [] as message (message)}<span><CodeText text={message} /></span>{/each}
      {/if}
    </p>
    <ol>
      {#each current.changes ?? [] as change (change.say)}<li><CodeText text={change.say} /></li>{/each}
    </ol>
    {#if current.changes?.length}
      <Button kind="tertiary" size="small" icon={Tools} on:click={() => onapply(current?.changes ?? [])}
        >Apply {current.changes.length === 1 ? "it" : `all ${current.changes.length}`}</Button
      >
    {/if}
  {/if}
</div>

<style>
  .plan {
    font-size: 0.75rem;
  }
  .plan.full {
    flex-basis: 100%;
    padding: 0.25rem 0.5rem 0.5rem;
  }
  p {
    font-size: inherit;
  }
  span {
    line-height: 2rem; /* of the button beside it */
    vertical-align: top;
  }
  ol {
    padding: 0.25rem 0 0.5rem 1.25rem;
    list-style: decimal;
  }
</style>
