<script lang="ts">
  import { Button, Checkbox, DataTable, InlineNotification, TextInput } from "carbon-components-svelte";
  import { api, sentence, type Schemas } from "../lib/api";
  import { count, when } from "../lib/format";

  let entries = $state.raw<Schemas["AuditEntry"][]>([]);
  let chain = $state.raw<Schemas["AuditChain"] | undefined>();
  let next = $state<string | undefined>();
  let who = $state("");
  let token = $state<number | undefined>();
  let refused = $state(false);
  let trouble = $state("");

  async function more(cursor?: string) {
    const { data, error } = await api.GET("/api/v1/audit", {
      params: { query: { cursor: cursor ? Number(cursor) : undefined, who: who || undefined, token, refused } },
    });
    if (error) {
      trouble = sentence(error);
      return;
    }
    entries = cursor ? [...entries, ...data.items] : data.items;
    next = data.next;
  }
  more();

  async function verify() {
    const { data, error } = await api.GET("/api/v1/audit/chain");
    if (error) trouble = sentence(error);
    else chain = data;
  }
  verify();

  function ofToken(id: number) {
    token = id || undefined;
    more();
  }
</script>

<h2>Audit trail</h2>
<p>Who changed what, from where, and what was refused. Each entry carries a hash of itself and of the one before it.</p>
{#if trouble}<InlineNotification
    lowContrast
    kind="error"
    title="The audit trail could not be read."
    subtitle={trouble}
  />{/if}
{#if chain?.broken}
  <InlineNotification
    lowContrast
    kind="error"
    hideCloseButton
    title={`Entry ${chain.broken} is not as it was written, or entries before it are missing.`}
    subtitle="The database itself was changed. Compare it with a backup."
  />
{:else if chain}
  <p class="quiet">
    {count(chain.entries)}
    {chain.entries === 1 ? "entry" : "entries"}, all as written. The last hash is
    <code>{chain.hash.slice(0, 16)}…</code>
  </p>
{/if}
<div class="row">
  <TextInput size="sm" labelText="Who" placeholder="anybody" bind:value={who} on:change={() => more()} />
  <Checkbox labelText="Only what was refused" bind:checked={refused} on:check={() => more()} />
  {#if token}<Button kind="ghost" size="small" on:click={() => ofToken(0)}>Not only token {token}</Button>{/if}
</div>
<DataTable
  size="short"
  rows={entries}
  headers={[
    { key: "at", value: "When" },
    { key: "who", value: "Who" },
    { key: "token", value: "Token" },
    { key: "address", value: "From" },
    { key: "action", value: "Did" },
    { key: "object", value: "To" },
    { key: "workspace", value: "In" },
    { key: "refused", value: "Refused" },
  ]}
>
  <svelte:fragment slot="cell" let:row let:cell>
    {#if cell.key === "at"}{when(cell.value)}
    {:else if cell.key === "who"}{cell.value || "not signed in"}
    {:else if cell.key === "token"}
      {#if row.token}<Button kind="ghost" size="small" on:click={() => ofToken(row.token_id)}>{cell.value}</Button>{/if}
    {:else if cell.key === "action"}{cell.value.replaceAll("-", " ")}
    {:else}{cell.value}{/if}
  </svelte:fragment>
</DataTable>
{#if next}<Button kind="ghost" size="small" on:click={() => more(next)}>Earlier</Button>{/if}
