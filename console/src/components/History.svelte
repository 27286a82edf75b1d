<script lang="ts">
  import { Button, InlineLoading, InlineNotification } from "carbon-components-svelte";
  import { untrack } from "svelte";
  import { api, sentence, problems, type Schemas } from "../lib/api";
  import { currentWorkspace } from "../lib/workspace.svelte";
  import { when } from "../lib/format";
  import Changes from "./Changes.svelte";
  import FindingCounts from "./FindingCounts.svelte";

  let {
    name,
    revision,
    text,
    onrestore,
  }: { name: string; revision: number; text: string; onrestore: (text: string, number: number) => void } = $props();

  let revisions = $state.raw<Schemas["Revision"][] | undefined>();
  let next = $state("");
  let trouble = $state("");
  let chosen = $state(0);
  let old = $state("");
  let difference = $state.raw<Schemas["Difference"] | undefined>();

  async function load(cursor = 0) {
    const { data, error } = await api.GET("/api/v1/workspaces/{workspace}/models/{name}/revisions", {
      params: { path: { workspace: currentWorkspace(), name }, query: { cursor } },
    });
    if (error) trouble = sentence(error);
    else {
      revisions = [...(cursor ? (revisions ?? []) : []), ...(data.items ?? [])];
      next = data.next ?? "";
    }
  }
  $effect(() => {
    void revision; // read again when another has been saved
    load();
  });

  // What is typed meanwhile is recorded apart too.
  $effect(() => {
    void text;
    const number = untrack(() => chosen);
    if (!number) return;
    const timer = setTimeout(() => look(number), 400);
    return () => clearTimeout(timer);
  });

  /** Tells a revision apart from the text as it is now. */
  async function look(number: number) {
    [chosen, difference, trouble] = [number, undefined, ""];
    const found = await api.GET("/api/v1/workspaces/{workspace}/models/{name}/revisions/{number}", {
      params: { path: { workspace: currentWorkspace(), name, number } },
    });
    if (found.error) {
      trouble = sentence(found.error);
      return;
    }
    old = found.data.text ?? "";
    const { data, error } = await api.POST("/api/v1/diff", { body: { before: old, after: text } });
    if (error) trouble = [sentence(error), ...problems(error).map((t) => t.message)].join(" ");
    else difference = data;
  }
</script>

<section aria-label="History">
  <ol>
    {#each revisions ?? [] as r (r.number)}
      <li>
        <button class="row" aria-pressed={chosen === r.number} onclick={() => look(r.number)}>
          <strong>{r.number}</strong> <span>{when(r.created_at)} by {r.author}</span>
          <FindingCounts errors={r.errors} warnings={r.warnings} notes={r.notes} />
          {#if r.note}<span class="quiet">{r.note}</span>{/if}
        </button>
      </li>
    {/each}
    {#if next}<li><Button size="small" kind="ghost" on:click={() => load(Number(next))}>Older ones</Button></li>{/if}
  </ol>
  <div class="recorded">
    {#if trouble}
      <InlineNotification kind="error" lowContrast hideCloseButton title="Not compared." subtitle={trouble} />
    {:else if !chosen}
      <p class="quiet">
        Select a revision to see what has changed since then in the model, and which findings are new or resolved.
      </p>
    {:else if !difference}
      <InlineLoading description="Comparing" />
    {:else}
      <div class="head">
        <h4>From revision {chosen} to the text as it is now</h4>
        <Button
          size="small"
          kind="tertiary"
          disabled={old === text}
          on:click={() => (onrestore(old, chosen), (chosen = 0))}>Restore revision {chosen}</Button
        >
      </div>
      <Changes {difference} />
    {/if}
  </div>
</section>

<style>
  section {
    display: grid;
    grid-template-columns: minmax(16rem, 22rem) 1fr;
    height: 100%;
  }
  ol {
    list-style: none;
    margin: 0;
    padding: 0;
    overflow: auto;
    border-right: 1px solid var(--cds-ui-03);
  }
  .row {
    display: flex;
    flex-wrap: wrap;
    gap: 0.25rem 0.75rem;
    width: 100%;
    padding: 0.5rem 0.75rem;
    border: none;
    border-bottom: 1px solid var(--cds-ui-03);
    background: none;
    color: inherit;
    font: inherit;
    text-align: left;
    cursor: pointer;
  }
  .row:hover {
    background: var(--cds-hover-ui);
  }
  .row[aria-pressed="true"] {
    background: var(--cds-selected-ui);
  }
  .row:focus-visible {
    outline: 2px solid var(--cds-focus);
    outline-offset: -2px;
  }
  .recorded {
    padding: 0.5rem 0.75rem;
    overflow: auto;
  }
  h4 {
    font-size: 0.875rem;
    font-weight: 600;
  }
  .head {
    display: flex;
    align-items: center;
    justify-content: space-between;
    gap: 1rem;
  }
</style>
