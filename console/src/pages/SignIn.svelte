<script lang="ts">
  import { InlineLoading, InlineNotification } from "carbon-components-svelte";
  import { api, sentence } from "../lib/api";
  import { navigate } from "../router";

  let trouble = $state("");
  let working = $state(false);

  async function signIn(secret: string) {
    working = true;
    const { error } = await api.POST("/api/v1/session", { body: { secret } });
    working = false;
    history.replaceState(null, "", "/sign-in"); // a secret stays in no history
    if (error) trouble = sentence(error);
    else navigate("/");
  }

  const secret = location.hash.slice(1);
  if (secret) signIn(secret);
</script>

<svelte:head><title>Sign in · Iron Weir</title></svelte:head>

<div class="page" id="main-content">
  <h1>Sign in</h1>
  {#if working}
    <InlineLoading description="Signing in …" />
  {:else if trouble}
    <InlineNotification lowContrast kind="error" title="Not signed in." subtitle={trouble} hideCloseButton />
  {/if}
  <p>The start command prints a link that signs you in once. Open it in this browser.</p>
  <p class="quiet">Each start prints a new one: stop the service with Ctrl-C and start it again if yours has run out.</p>
</div>
