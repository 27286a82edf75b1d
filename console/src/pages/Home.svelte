<script lang="ts">
  import { InlineLoading } from "carbon-components-svelte";
  import { visitor } from "../lib/workspace.svelte";
  import { navigate } from "../router";

  let nowhere = $state(false);

  async function begin() {
    if (!visitor.workspaces) await visitor.load();
    if (visitor.home) navigate("/w/:workspace", { params: { workspace: visitor.home }, replace: true });
    else nowhere = visitor.user !== undefined;
  }
  begin();
</script>

<svelte:head><title>Iron Weir</title></svelte:head>

<div class="page" id="main-content">
  {#if nowhere}
    <h1>No workspace yet</h1>
    <p>
      You are signed in as {visitor.user?.name}, but no member of a workspace. Ask whoever administers one to give you a
      role there.
    </p>
  {:else}
    <InlineLoading description="One moment …" />
  {/if}
</div>
