<script lang="ts">
  import "../app.css?for=pages/SignIn.svelte";
  import {
    Button,
    Content,
    Form,
    Header,
    InlineLoading,
    InlineNotification,
    PasswordInput,
    SkipToContent,
    TextInput,
  } from "carbon-components-svelte";
  import ConnectionBar from "../components/ConnectionBar.svelte";
  import { api, returnKey, sentence } from "../lib/api";

  let trouble = $state("");
  let working = $state(false);
  let name = $state("");
  let password = $state("");

  async function signIn(body: { secret: string } | { name: string; password: string }) {
    working = true;
    trouble = "";
    const { error } = await api.POST("/api/v1/session", { body });
    working = false;
    history.replaceState(null, "", "/sign-in"); // a secret stays in no history
    if (error) trouble = sentence(error);
    else {
      const wanted = sessionStorage.getItem(returnKey) ?? "/";
      sessionStorage.removeItem(returnKey);
      const ours = wanted.startsWith("/") && !wanted.startsWith("//") && !wanted.startsWith("/sign-in");
      location.assign(ours ? wanted : "/");
    }
  }

  /** Uses the one-time link that the address holds, also one that is opened in a tab that shows this page. */
  function useLink() {
    const secret = location.hash.slice(1);
    if (secret && !working) signIn({ secret });
  }
  useLink();
</script>

<svelte:window onhashchange={useLink} />
<svelte:head><title>Sign in · Iron Weir</title></svelte:head>

<SkipToContent />
<Header platformName="Iron Weir" href="/" aria-label="Iron Weir" />
<ConnectionBar />
<Content style="padding: 0; margin-top: 3rem; background: var(--cds-ui-background)">
  <div class="page" id="main-content">
    <h1>Sign in</h1>
    {#if working}
      <InlineLoading description="Signing in …" />
    {:else if trouble}
      <InlineNotification lowContrast kind="error" title="Not signed in." subtitle={trouble} hideCloseButton />
    {/if}
    <Form
      on:submit={(e) => {
        e.preventDefault();
        signIn({ name, password });
      }}
    >
      <TextInput labelText="Name" bind:value={name} autocomplete="username" />
      <PasswordInput labelText="Password" bind:value={password} autocomplete="current-password" />
      <Button type="submit" disabled={working || !name || !password}>Sign in</Button>
    </Form>
    <p class="quiet">
      A one-time link signs you in as well. The start command prints one until an administrator has a password, and an
      administrator can create one for you. Open it in this browser.
    </p>
  </div>
</Content>

<style>
  .page :global(form) {
    display: grid;
    gap: 1rem;
    max-width: 24rem;
    justify-items: start;
  }
  .page :global(form > *) {
    width: 100%;
  }
  .page :global(form > button) {
    width: auto;
  }
  .quiet {
    margin-top: 1rem;
    max-width: 42rem;
  }
</style>
