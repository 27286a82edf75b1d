<script lang="ts">
  import { Button, Form, InlineNotification, PasswordInput } from "carbon-components-svelte";
  import { api, sentence } from "../lib/api";
  import { visitor } from "../lib/workspace.svelte";

  let before = $state("");
  let password = $state("");
  let said = $state("");
  let trouble = $state("");

  async function choose(e: Event) {
    e.preventDefault();
    const { error } = await api.PUT("/api/v1/session/password", { body: { before, password } });
    trouble = error ? sentence(error) : "";
    said = error ? "" : "Other sessions of yours have ended.";
    if (error) return;
    before = password = "";
    visitor.load();
  }
</script>

<h2>Password</h2>
{#if trouble}<InlineNotification
    lowContrast
    kind="error"
    title="The password was not changed."
    subtitle={trouble}
  />{/if}
{#if said}<InlineNotification lowContrast kind="success" title="The password was changed." subtitle={said} />{/if}
<Form on:submit={choose} class="narrow">
  {#if visitor.user?.has_password}
    <PasswordInput labelText="Password until now" bind:value={before} autocomplete="current-password" />
  {/if}
  <PasswordInput
    labelText="New password"
    helperText="At least 12 characters"
    bind:value={password}
    autocomplete="new-password"
  />
  <Button type="submit" size="small" disabled={password.length < 12}
    >{visitor.user?.has_password ? "Change the password" : "Choose a password"}</Button
  >
</Form>
