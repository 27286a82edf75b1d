<script lang="ts">
  import { Button, DataTable, InlineNotification } from "carbon-components-svelte";
  import { api, sentence, type Schemas } from "../lib/api";
  import { when } from "../lib/format";

  let entries = $state.raw<Schemas["AuditEntry"][]>([]);
  let next = $state<string | undefined>();
  let trouble = $state("");

  async function more(cursor?: string) {
    const { data, error } = await api.GET("/api/v1/audit", {
      params: { query: { cursor: cursor ? Number(cursor) : undefined } },
    });
    if (error) {
      trouble = sentence(error);
      return;
    }
    entries = [...entries, ...data.items];
    next = data.next;
  }
  more();
</script>

<h2>Audit trail</h2>
{#if trouble}<InlineNotification
    lowContrast
    kind="error"
    title="The audit trail could not be read."
    subtitle={trouble}
  />{/if}
<DataTable
  size="short"
  rows={entries}
  headers={[
    { key: "at", value: "When" },
    { key: "who", value: "Who" },
    { key: "action", value: "Did" },
    { key: "object", value: "To" },
    { key: "workspace", value: "In" },
  ]}
>
  <svelte:fragment slot="cell" let:row let:cell>
    {#if cell.key === "at"}{when(cell.value)}
    {:else if cell.key === "who"}{cell.value}{row.token ? ` (token ${row.token})` : ""}
    {:else if cell.key === "action"}{cell.value.replaceAll("-", " ")}
    {:else}{cell.value}{/if}
  </svelte:fragment>
</DataTable>
{#if next}<Button kind="ghost" size="small" on:click={() => more(next)}>Earlier</Button>{/if}
