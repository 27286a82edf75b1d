<script lang="ts">
  import { InlineNotification, Loading } from "carbon-components-svelte";
  import { api, sentence } from "../lib/api";
  import { route } from "../router";

  /** Opens a share link, and goes to what it shares. */
  let trouble = $state("");

  async function open() {
    const { secret } = route.getParams("/s/:secret");
    const { data, error } = await api.POST("/api/v1/shares/open", { body: { secret } });
    if (error) {
      trouble = sentence(error);
      return;
    }
    location.replace(`/w/${data.workspace}/${data.share.path}`); // the link itself is not kept in the history
  }
  open();
</script>

<svelte:head><title>Share link · Iron Weir</title></svelte:head>

<div class="page" id="main-content">
  {#if trouble}
    <h1>This link opens nothing</h1>
    <InlineNotification kind="error" title="Not opened." subtitle={trouble} hideCloseButton />
  {:else}
    <Loading withOverlay={false} description="Opening what is shared" />
  {/if}
</div>
