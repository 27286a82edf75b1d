<script lang="ts">
  import { Button, DataTable, DataTableSkeleton, InlineNotification, Search } from "carbon-components-svelte";
  import Add from "carbon-icons-svelte/lib/Add.svelte";
  import Upload from "carbon-icons-svelte/lib/Upload.svelte";
  import { api, sentence, type Schemas } from "../lib/api";
  import { preload } from "../lib/preload";
  import { currentWorkspace } from "../lib/workspace.svelte";
  import { incoming } from "../lib/incoming";
  import { when } from "../lib/format";
  import FindingCounts from "../components/FindingCounts.svelte";
  import NewModel from "../components/NewModel.svelte";
  import Sketch from "../components/Sketch.svelte";
  import StateTag from "../components/StateTag.svelte";
  import { p } from "../router";

  let models = $state.raw<Schemas["Listed"][] | undefined>();
  let trouble = $state("");
  let making = $state(false);
  let looked = $state("");

  /** Looks in names and texts: a tag, an owner, a node. */
  async function load(search: string) {
    const { data, error } = await api.GET("/api/v1/workspaces/{workspace}/models", {
      params: { path: { workspace: currentWorkspace() }, query: { search } },
    });
    if (search !== looked) return; // something else is looked for by now
    trouble = error ? sentence(error) : "";
    if (data) models = data.items;
  }
  $effect(() => {
    const search = looked;
    const timer = setTimeout(() => load(search), models ? 200 : 0);
    return () => clearTimeout(timer);
  });

  preload(); // a model is likely to be opened next

  const rows = $derived((models ?? []).map((m) => ({ id: m.name, ...m })));
</script>

<svelte:head><title>Models · Iron Weir</title></svelte:head>

<div class="page" id="main-content">
  <div class="top">
    <h1>Models</h1>
    <div class="actions">
      <div class="search">
        <Search
          size="sm"
          placeholder="Search names, tags, owners, nodes"
          labelText="Search the models"
          bind:value={looked}
          on:clear={() => (looked = "")}
        />
      </div>
      <Button size="small" kind="tertiary" icon={Upload} on:click={() => incoming.pick()}>Import a file</Button>
      <Button size="small" icon={Add} on:click={() => (making = true)}>New model</Button>
    </div>
  </div>
  {#if trouble}
    <InlineNotification kind="error" title="The models could not be read." subtitle={trouble} hideCloseButton />
  {:else if !models}
    <DataTableSkeleton showHeader={false} showToolbar={false} rows={3} />
  {:else if models.length === 0 && looked}
    <p role="status">
      Nothing is found for “{looked}” in the names and texts of the models.
      <button class="plain as-link" onclick={() => (looked = "")}>Show all</button>
    </p>
  {:else if models.length === 0}
    <p>
      There are no models yet. Begin with a starter, drop a file here (a model, AsyncAPI, an inventory, traces), or
      start the service with <span class="mono">-demo</span> to look at an example.
    </p>
  {:else}
    <DataTable
      sortable
      {rows}
      headers={[
        { key: "sketch", value: "Picture", sort: false },
        { key: "name", value: "Model" },
        { key: "errors", value: "Found" },
        { key: "revision", value: "Revision" },
        { key: "changed_at", value: "Changed" },
        { key: "last_run", value: "Last run" },
      ]}
    >
      <svelte:fragment slot="cell" let:row let:cell>
        {#if cell.key === "sketch"}
          {#if row.sketch}
            <a
              class="sketch"
              tabindex="-1"
              aria-hidden="true"
              href={p("/w/:workspace/models/:name", { params: { workspace: currentWorkspace(), name: row.name } })}
              ><Sketch sketch={row.sketch} /></a
            >
          {/if}
        {:else if cell.key === "name"}
          <a href={p("/w/:workspace/models/:name", { params: { workspace: currentWorkspace(), name: row.name } })}
            >{row.name}</a
          >
        {:else if cell.key === "errors"}
          <FindingCounts
            errors={row.errors}
            warnings={row.warnings}
            notes={row.notes}
            empty={row.sketch?.cells.length === 0}
          />
        {:else if cell.key === "changed_at"}
          {when(row.changed_at)} by {row.author}
        {:else if cell.key === "last_run"}
          {#if row.last_run}
            <a
              href={p("/w/:workspace/runs/:id", {
                params: { workspace: currentWorkspace(), id: String(row.last_run) },
              })}>run {row.last_run}</a
            >
            <StateTag state={row.last_run_state ?? ""} unmet={row.last_run_unmet} expected={row.last_run_expected} />
          {:else}
            <span class="quiet">never run</span>
          {/if}
        {:else}
          {cell.value}
        {/if}
      </svelte:fragment>
    </DataTable>
  {/if}
</div>

<NewModel bind:open={making} />

<style>
  @media (max-width: 600px) {
    .page :global(:is(th, td):nth-child(1)),
    .page :global(:is(th, td):nth-child(4)),
    .page :global(:is(th, td):nth-child(5)) {
      display: none; /* the picture, the revision, and when it was saved */
    }
  }
  .top {
    display: flex;
    justify-content: space-between;
    align-items: start;
  }
  .actions {
    display: flex;
    flex-wrap: wrap;
    gap: 0.5rem;
    justify-content: end;
  }
  .search {
    width: 19rem;
  }
</style>
