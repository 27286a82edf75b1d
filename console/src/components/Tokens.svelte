<script lang="ts">
  import {
    Button,
    CodeSnippet,
    Form,
    InlineNotification,
    NumberInput,
    Select,
    SelectItem,
    TextInput,
  } from "carbon-components-svelte";
  import { api, sentence, type Schemas } from "../lib/api";
  import { visitor } from "../lib/workspace.svelte";
  import Revocable from "./Revocable.svelte";

  let tokens = $state.raw<Schemas["Token"][]>([]);
  let name = $state("");
  let role = $state<"viewer" | "editor" | "admin">("editor");
  let workspace = $state("");
  let days = $state<number | null>(90);
  let secret = $state("");
  let trouble = $state("");

  async function load() {
    const { data, error } = await api.GET("/api/v1/tokens");
    if (error) trouble = sentence(error);
    else tokens = data.items;
  }
  load();

  async function make(e: Event) {
    e.preventDefault();
    const { data, error } = await api.POST("/api/v1/tokens", {
      body: { name, role, workspace: workspace || undefined, days: days ?? 90 },
    });
    trouble = error ? sentence(error) : "";
    if (error) return;
    secret = data.secret;
    name = "";
    load();
  }

  async function revoke(id: number) {
    const { error } = await api.DELETE("/api/v1/tokens/{id}", { params: { path: { id } } });
    trouble = error ? sentence(error) : "";
    load();
  }
</script>

<h2>Tokens</h2>
<p>A token gives a program access as you, for the command line or a pipeline, within its role.</p>
{#if trouble}<InlineNotification lowContrast kind="error" title="The token was not changed." subtitle={trouble} />{/if}
{#if secret}
  <InlineNotification
    lowContrast
    kind="success"
    title="The token is shown this once."
    subtitle="Keep it where secrets are kept."
    hideCloseButton
  />
  <CodeSnippet code={secret} />
{/if}
<Form on:submit={make} class="row">
  <TextInput labelText="Purpose" placeholder="harbour pipeline" bind:value={name} />
  <Select labelText="At most" bind:selected={role}>
    <SelectItem value="viewer" /><SelectItem value="editor" /><SelectItem value="admin" />
  </Select>
  <Select labelText="Where" bind:selected={workspace}>
    <SelectItem value="" text="all workspaces" />
    {#each visitor.workspaces ?? [] as w (w.name)}<SelectItem value={w.name} />{/each}
  </Select>
  <NumberInput labelText="Days" min={1} max={730} bind:value={days} />
  <Button type="submit" size="field" disabled={!name}>Create token</Button>
</Form>
{#if tokens.length === 0}
  <p class="quiet">You have no tokens.</p>
{:else}
  <Revocable
    rows={tokens.map((t) => ({ ...t, workspace: t.workspace ?? "all workspaces" }))}
    headers={[
      { key: "name", value: "For" },
      { key: "role", value: "At most" },
      { key: "workspace", value: "Where" },
      { key: "expires_at", value: "Runs out" },
      { key: "used_at", value: "Last used" },
    ]}
    label={(row) => `Revoke ${row.name}`}
    onrevoke={revoke}
  />
{/if}
