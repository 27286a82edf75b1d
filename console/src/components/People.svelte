<script lang="ts">
  import {
    Button,
    Checkbox,
    CodeSnippet,
    DataTable,
    Form,
    InlineNotification,
    OverflowMenu,
    OverflowMenuItem,
    Select,
    SelectItem,
    TextInput,
  } from "carbon-components-svelte";
  import { api, sentence, type Schemas } from "../lib/api";
  import { when } from "../lib/format";
  import { visitor } from "../lib/workspace.svelte";

  let people = $state.raw<Schemas["User"][]>([]);
  let name = $state("");
  let administers = $state(false);
  let workspace = $state(visitor.home ?? ""); // in which they get a role; empty: in none yet
  let role = $state<Schemas["Member"]["role"]>("viewer");
  let link = $state<{ name: string; url: string } | undefined>();
  let trouble = $state("");

  async function load() {
    const { data, error } = await api.GET("/api/v1/users");
    if (error) trouble = sentence(error);
    else people = data.items;
  }
  load();

  async function invite(user: string) {
    const { data, error } = await api.POST("/api/v1/users/{user}/sign-in-link", { params: { path: { user } } });
    trouble = error ? sentence(error) : "";
    if (data) link = { name: user, url: location.origin + data.path };
  }

  async function add(e: Event) {
    e.preventDefault();
    const { error } = await api.POST("/api/v1/users", { body: { name, admin: administers } });
    trouble = error ? sentence(error) : "";
    if (error) return;
    await invite(name);
    if (workspace) {
      const given = await api.PUT("/api/v1/workspaces/{workspace}/members/{user}", {
        params: { path: { workspace, user: name } },
        body: { role },
      });
      if (given.error) trouble = sentence(given.error);
    }
    name = "";
    administers = false;
    load();
  }

  async function change(user: string, admin: boolean) {
    const { error } = await api.PATCH("/api/v1/users/{user}", { params: { path: { user } }, body: { admin } });
    trouble = error ? sentence(error) : "";
    load();
  }

  async function remove(user: string) {
    const { error } = await api.DELETE("/api/v1/users/{user}", { params: { path: { user } } });
    trouble = error ? sentence(error) : "";
    load();
  }
</script>

<h2>People</h2>
{#if trouble}<InlineNotification lowContrast kind="error" title="The users were not changed." subtitle={trouble} />{/if}
{#if link}
  <InlineNotification
    lowContrast
    kind="success"
    title={`A link for ${link.name}.`}
    subtitle="It signs in once, within a day. Send it to them alone."
    hideCloseButton
  />
  <CodeSnippet code={link.url} />
{/if}
<Form on:submit={add} class="row">
  <TextInput labelText="Name" placeholder="skerry" helperText="Letters, digits, . _ @ -" bind:value={name} />
  <Select labelText="In workspace" bind:selected={workspace}>
    <SelectItem value="" text="none yet" />
    {#each visitor.workspaces ?? [] as w (w.name)}<SelectItem value={w.name} />{/each}
  </Select>
  <Select labelText="As" bind:selected={role} disabled={!workspace}>
    <SelectItem value="viewer" /><SelectItem value="editor" /><SelectItem value="admin" />
  </Select>
  <Checkbox labelText="administers the service" bind:checked={administers} />
  <Button type="submit" size="field" disabled={!name}>Add, with a link</Button>
</Form>
<DataTable
  size="short"
  rows={people}
  headers={[
    { key: "name", value: "Person" },
    { key: "admin", value: "" },
    { key: "has_password", value: "Signs in" },
    { key: "created_at", value: "Since" },
    { key: "id", empty: true },
  ]}
>
  <svelte:fragment slot="cell" let:row let:cell>
    {#if cell.key === "id"}
      <OverflowMenu
        flipped
        aria-label={`What to do with ${row.name}`}
        iconDescription={`What to do with ${row.name}`}
        size="sm"
      >
        <OverflowMenuItem text="Make a sign-in link" on:click={() => invite(row.name)} />
        <OverflowMenuItem
          text={row.admin ? "No longer administers" : "Administers the service"}
          on:click={() => change(row.name, !row.admin)}
        />
        <OverflowMenuItem danger text="Remove" on:click={() => remove(row.name)} />
      </OverflowMenu>
    {:else if cell.key === "admin"}{cell.value ? "administers the service" : ""}
    {:else if cell.key === "has_password"}{cell.value ? "with a password" : "with links"}
    {:else if cell.key === "created_at"}{when(cell.value)}
    {:else}{cell.value}{/if}
  </svelte:fragment>
</DataTable>
