<script lang="ts">
  import { Button, DataTable } from "carbon-components-svelte";
  import TrashCan from "carbon-icons-svelte/lib/TrashCan.svelte";
  import { when } from "../lib/format";

  type Row = { id: number; [column: string]: unknown }; // expires_at and used_at are written as times

  /** A table of what gives access until it expires: each row can be revoked. */
  let {
    rows,
    headers,
    label,
    onrevoke,
  }: {
    rows: Row[];
    headers: { key: string; value: string }[];
    label: (row: Row) => string; // of the button
    onrevoke: (id: number) => void;
  } = $props();
</script>

<DataTable size="short" {rows} headers={[...headers, { key: "id", empty: true }]}>
  <svelte:fragment slot="cell" let:row let:cell>
    {#if cell.key === "id"}
      <Button
        kind="danger-ghost"
        size="small"
        icon={TrashCan}
        iconDescription={label(row)}
        on:click={() => onrevoke(row.id)}
      />
    {:else if cell.key === "expires_at"}{when(cell.value)}
    {:else if cell.key === "used_at"}{cell.value ? when(cell.value) : "never"}
    {:else}{cell.value}{/if}
  </svelte:fragment>
</DataTable>
