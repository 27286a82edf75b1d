<!-- Says when the service cannot be reached, and when it can be reached again. -->
<script lang="ts">
  import { Button } from "carbon-components-svelte";
  import { connection } from "../lib/connection.svelte";
</script>

{#if connection.state !== "up"}
  <div class="connection" class:down={connection.state === "down"} role="status">
    {#if connection.state === "down"}
      The service cannot be reached. Unsaved text is kept in this browser; the page tries again by itself.
    {:else}
      The service can be reached again.
      <Button size="small" kind="ghost" on:click={() => location.reload()}>Reload the page</Button>
      <Button size="small" kind="ghost" on:click={() => (connection.state = "up")}>Close</Button>
    {/if}
  </div>
{/if}

<style>
  .connection {
    position: fixed;
    bottom: 0;
    left: 0;
    right: 0;
    z-index: 9000;
    display: flex;
    align-items: center;
    gap: 1rem;
    padding: 0.5rem 1rem;
    background: var(--cds-ui-02);
    border-top: 3px solid var(--cds-support-02);
  }
  .connection.down {
    border-color: var(--cds-support-01);
  }
</style>
