<script lang="ts">
  import { InlineNotification, Loading } from "carbon-components-svelte";
  import { api, sentence, type Schemas } from "../lib/api";
  import { when } from "../lib/format";
  import { currentWorkspace, visitor } from "../lib/workspace.svelte";
  import { p, route } from "../router";
  import Board from "../components/Board.svelte";
  import FindingCounts from "../components/FindingCounts.svelte";
  import Findings from "../components/Findings.svelte";
  import ShareLink from "../components/ShareLink.svelte";

  /** One revision of a model, to read: its board, what was found, and its text. */
  const { name, number } = route.getParams("/w/:workspace/models/:name/revisions/:number");

  let revision = $state.raw<Schemas["Revision"] | undefined>();
  let checked = $state.raw<Schemas["Checked"] | undefined>();
  let trouble = $state("");
  let chosen = $state("");

  async function load() {
    const { data, error } = await api.GET("/api/v1/workspaces/{workspace}/models/{name}/revisions/{number}", {
      params: { path: { workspace: currentWorkspace(), name, number: Number(number) } },
    });
    trouble = error ? sentence(error) : "";
    revision = data;
    if (data) checked = (await api.POST("/api/v1/check", { body: { text: data.text ?? "" } })).data;
  }
  load();
</script>

<svelte:head><title>{name}, revision {number} · Iron Weir</title></svelte:head>

<div class="page" id="main-content">
  {#if trouble}
    <h1>{name}</h1>
    <InlineNotification kind="error" title="Not found." subtitle={trouble} hideCloseButton />
  {:else if !revision}
    <Loading withOverlay={false} description="Reading the revision" />
  {:else}
    <div class="top">
      <h1>
        {#if visitor.user && !visitor.user.share}
          <a href={p("/w/:workspace/models/:name", { params: { workspace: currentWorkspace(), name } })}>{name}</a>
        {:else}{name}{/if}
      </h1>
      <span class="quiet">revision {revision.number}, saved {when(revision.created_at)} by {revision.author}</span>
      {#if checked}{@const sum = checked.check?.summary}
        <FindingCounts errors={sum?.errors ?? 0} warnings={sum?.warnings ?? 0} notes={sum?.notes ?? 0} />{/if}
      {#if visitor.edits && visitor.user && !visitor.user.share}
        <ShareLink what="revision" id={name} revision={revision.number} about="{name}, revision {revision.number}" />
      {/if}
    </div>
    {#if checked}
      <div class="drawn">
        <Board
          board={checked.board}
          findings={checked.check?.findings ?? []}
          embedded
          {chosen}
          onchoose={(n) => (chosen = n)}
        />
      </div>
      <h2>Findings</h2>
      <Findings
        findings={checked.check?.findings ?? []}
        wrong={[]}
        explains={!visitor.user?.share}
        empty={checked.board.nodes.length === 0}
        edits={false}
        onchoose={(node) => (chosen = node)}
        onapply={() => {}}
      />
    {/if}
    <h2>Text</h2>
    <pre>{revision.text}</pre>
  {/if}
</div>

<style>
  .top {
    display: flex;
    align-items: center;
    gap: 0.75rem;
    flex-wrap: wrap;
    margin-bottom: 0.75rem;
  }
  .top h1 {
    margin: 0;
  }
  .drawn {
    height: 28rem;
    border: 1px solid var(--cds-ui-03);
  }
  pre {
    font:
      0.75rem/1.5 "IBM Plex Mono",
      monospace;
    background: var(--cds-ui-01);
    padding: 1rem;
    overflow-x: auto;
  }
</style>
