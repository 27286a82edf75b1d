<script lang="ts">
  import { Button, InlineNotification, Modal } from "carbon-components-svelte";
  import { api, sentence } from "../lib/api";

  let asking = $state(false);
  let trouble = $state("");

  async function end() {
    const { error } = await api.DELETE("/api/v1/sessions");
    trouble = error ? sentence(error) : "";
    asking = false;
    if (!error) location.assign("/sign-in");
  }
</script>

<h2>Sessions</h2>
<p>If your password, a token or a link may have leaked, end them all.</p>
{#if trouble}<InlineNotification lowContrast kind="error" title="Nothing was ended." subtitle={trouble} />{/if}
<Button kind="danger-tertiary" size="small" on:click={() => (asking = true)}>Sign out everywhere</Button>
<Modal
  danger
  size="sm"
  bind:open={asking}
  modalHeading="Sign out everywhere"
  primaryButtonText="Sign out everywhere"
  secondaryButtonText="Cancel"
  on:click:button--secondary={() => (asking = false)}
  on:submit={end}
>
  <p>All your sessions end, this one too. Your tokens and one-time links stop working.</p>
</Modal>
