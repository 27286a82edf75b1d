<script lang="ts">
  import { Button, DataTable, DataTableSkeleton, InlineNotification, Modal, TextInput } from "carbon-components-svelte";
  import Add from "carbon-icons-svelte/lib/Add.svelte";
  import { api, sentence, type Schemas } from "../lib/api";
  import { when } from "../lib/words";
  import FindingCounts from "../parts/FindingCounts.svelte";
  import StateTag from "../parts/StateTag.svelte";
  import { navigate, p } from "../router";

  let models = $state.raw<Schemas["Listed"][] | undefined>();
  let trouble = $state("");
  let making = $state(false);
  let name = $state("");
  let refused = $state("");

  async function load() {
    const { data, error } = await api.GET("/api/v1/models");
    if (error) trouble = sentence(error);
    else models = data.models;
  }
  load();

  const starter = (name: string) => `ironweir: topology/1
name: ${name}
about: What this system is for, in a sentence.
nodes:
  inbox:
    kind: bucket
    keys: ["inbound/{seq}.json"]
    rate: 30/h
    links:
      take-in: {match: {prefix: inbound/}, dead-letter: set-aside}
  take-in:
    kind: function
    takes: 300ms
    fails: 1%
    links: {ready: {}}
  ready: {kind: queue, lease: 5m, links: {deliver: {retry: {tries: 5}, dead-letter: set-aside}}}
  deliver: {kind: outside, takes: 1s, fails: 2%}
  set-aside: {kind: queue, retention: 14d}
`;

  async function create() {
    const { error } = await api.POST("/api/v1/models", { body: { name, text: starter(name) } });
    if (error) refused = sentence(error);
    else navigate("/models/:name", { params: { name } });
  }

  const rows = $derived((models ?? []).map((m) => ({ id: m.name, ...m })));
</script>

<svelte:head><title>Models · Iron Weir</title></svelte:head>

<div class="page" id="main-content">
  <div class="top">
    <h1>Models</h1>
    <Button size="small" icon={Add} on:click={() => { name = ""; refused = ""; making = true; }}>New model</Button>
  </div>
  {#if trouble}
    <InlineNotification kind="error" title="The models could not be read." subtitle={trouble} hideCloseButton />
  {:else if !models}
    <DataTableSkeleton showHeader={false} showToolbar={false} rows={3} />
  {:else if models.length === 0}
    <p>There are no models yet. Make one, or start the service with <span class="mono">-demo</span> to look at an example.</p>
  {:else}
    <DataTable
      sortable
      {rows}
      headers={[
        { key: "name", value: "Model" },
        { key: "errors", value: "Found" },
        { key: "revision", value: "Revision" },
        { key: "changed_at", value: "Changed" },
        { key: "last_run", value: "Last run" },
      ]}
    >
      <svelte:fragment slot="cell" let:row let:cell>
        {#if cell.key === "name"}
          <a href={p("/models/:name", { params: { name: row.name } })}>{row.name}</a>
        {:else if cell.key === "errors"}
          <FindingCounts errors={row.errors} warnings={row.warnings} notes={row.notes} />
        {:else if cell.key === "changed_at"}
          {when(row.changed_at)} by {row.author}
        {:else if cell.key === "last_run"}
          {#if row.last_run}
            <a href={p("/runs/:id", { params: { id: String(row.last_run) } })}>run {row.last_run}</a> <StateTag state={row.last_run_state ?? ""} />
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

<Modal bind:open={making} modalHeading="New model" primaryButtonText="Make it" secondaryButtonText="Cancel" primaryButtonDisabled={!/^[a-z][a-z0-9-]{0,62}$/.test(name)} on:click:button--secondary={() => (making = false)} on:submit={create} selectorPrimaryFocus="#new-name">
  <TextInput id="new-name" labelText="Name" placeholder="ferry-check-in" helperText="Small letters, digits and hyphens, starting with a letter." bind:value={name} invalid={refused !== ""} invalidText={refused} />
</Modal>

<style>
  .top { display: flex; justify-content: space-between; align-items: start; }
</style>
