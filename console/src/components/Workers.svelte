<script lang="ts">
  import { DataTable, InlineNotification } from "carbon-components-svelte";
  import { onMount } from "svelte";
  import { api, sentence, type Schemas } from "../lib/api";
  import { when } from "../lib/format";

  let workers = $state.raw<Schemas["Worker"][] | undefined>();
  let trouble = $state("");

  async function load() {
    const { data, error } = await api.GET("/api/v1/workers");
    trouble = error ? sentence(error) : "";
    if (data) workers = data.items;
  }
  onMount(() => {
    load();
    const again = setInterval(load, 3000);
    return () => clearInterval(again);
  });
</script>

<h2>Workers</h2>
<p>
  Processes that work on runs: this service, and every <span class="mono">ironweir worker</span> on the same database.
</p>
{#if trouble}<InlineNotification
    lowContrast
    kind="error"
    title="The workers could not be read."
    subtitle={trouble}
  />{/if}
{#if workers?.length === 0}
  <InlineNotification
    lowContrast
    kind="warning"
    title="Nobody works on runs."
    subtitle="Start `ironweir worker`, or the service with -workers 2."
    hideCloseButton
  />
{:else if workers}
  <DataTable
    size="short"
    rows={workers.map((w, id) => ({ id, ...w }))}
    headers={[
      { key: "host", value: "Host" },
      { key: "version", value: "Version" },
      { key: "busy", value: "Parts in progress" },
      { key: "slots", value: "At most at once" },
      { key: "started_at", value: "Since" },
    ]}
  >
    <svelte:fragment slot="cell" let:cell>{cell.key === "started_at" ? when(cell.value) : cell.value}</svelte:fragment>
  </DataTable>
{/if}
