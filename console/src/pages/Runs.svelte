<script lang="ts">
  import { Button, DataTable, DataTableSkeleton, InlineNotification } from "carbon-components-svelte";
  import { api, sentence, type Schemas } from "../lib/api";
  import { currentWorkspace } from "../lib/workspace.svelte";
  import { when } from "../lib/format";
  import StateTag from "../components/StateTag.svelte";
  import { navigate, p } from "../router";

  let runs = $state.raw<Schemas["Run"][] | undefined>();
  let trouble = $state("");
  let chosen = $state<number[]>([]);

  api
    .GET("/api/v1/workspaces/{workspace}/runs", { params: { path: { workspace: currentWorkspace() } } })
    .then(({ data, error }) => {
      if (error) trouble = sentence(error);
      else runs = data.items;
    });
</script>

<svelte:head><title>Runs · Iron Weir</title></svelte:head>

<div class="page" id="main-content">
  <h1>Runs</h1>
  {#if trouble}
    <InlineNotification kind="error" title="The runs could not be read." subtitle={trouble} hideCloseButton />
  {:else if !runs}
    <DataTableSkeleton showHeader={false} showToolbar={false} rows={3} />
  {:else if runs.length === 0}
    <p>
      No runs yet. Open a <a href={p("/w/:workspace", { params: { workspace: currentWorkspace() } })}>model</a>, select
      a scenario and run it.
    </p>
  {:else}
    <div class="compare">
      <span class="quiet"
        >{chosen.length < 2
          ? "Select two or more runs to compare them."
          : `${chosen.length} selected; the first is the baseline.`}</span
      >
      <Button
        size="small"
        kind="tertiary"
        disabled={chosen.length < 2 || chosen.length > 8}
        on:click={() =>
          navigate("/w/:workspace/compare/:runs", {
            params: { workspace: currentWorkspace(), runs: [...chosen].sort((a, b) => a - b).join(",") },
          })}>Compare</Button
      >
    </div>
    <div class="runs">
      <DataTable
        sortable
        selectable
        bind:selectedRowIds={chosen}
        nonSelectableRowIds={runs
          .filter((r) => r.kind !== "run" || !["done", "cancelled"].includes(r.state))
          .map((r) => r.id)}
        rows={runs}
        headers={[
          { key: "id", value: "Run" },
          { key: "model", value: "Model" },
          { key: "scenario", value: "Scenario" },
          { key: "state", value: "State" },
          { key: "created_at", value: "Started" },
        ]}
      >
        <svelte:fragment slot="cell" let:row let:cell>
          {#if cell.key === "id"}
            <a href={p("/w/:workspace/runs/:id", { params: { workspace: currentWorkspace(), id: String(row.id) } })}
              >run {row.id}</a
            >
          {:else if cell.key === "model"}
            <a href={p("/w/:workspace/models/:name", { params: { workspace: currentWorkspace(), name: row.model } })}
              >{row.model}</a
            >, revision {row.revision}
            <span class="beneath quiet">{row.scenario}</span>
          {:else if cell.key === "scenario"}
            {row.scenario}{row.kind === "run" ? "" : ` (${row.kind})`}
          {:else if cell.key === "state"}
            <StateTag state={row.state} unmet={row.unmet} expected={row.expected} />
          {:else if cell.key === "created_at"}
            {when(row.created_at)} by {row.author}
          {:else}
            {cell.value}
          {/if}
        </svelte:fragment>
      </DataTable>
    </div>
  {/if}
</div>

<style>
  .compare {
    display: flex;
    align-items: center;
    justify-content: flex-end;
    gap: 1rem;
    margin-bottom: 0.5rem;
  }
  .beneath {
    display: none;
  }
  @media (max-width: 40rem) {
    .beneath {
      display: block;
    }
    .runs :global(th:nth-child(4)),
    .runs :global(td:nth-child(4)),
    .runs :global(th:nth-child(6)),
    .runs :global(td:nth-child(6)) {
      display: none;
    }
  }
</style>
