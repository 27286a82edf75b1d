<script lang="ts">
  import { Button, DataTable, Form, InlineNotification, Select, SelectItem, TextInput } from "carbon-components-svelte";
  import TrashCan from "carbon-icons-svelte/lib/TrashCan.svelte";
  import { api, sentence, type Schemas } from "../lib/api";
  import { visitor } from "../lib/workspace.svelte";
  import { isName } from "../lib/names";

  const { admin }: { admin: boolean } = $props();

  let workspace = $state(visitor.home ?? "");
  let members = $state.raw<Schemas["Member"][]>([]);
  let person = $state("");
  let role = $state<"viewer" | "editor" | "admin">("viewer");
  let fresh = $state("");
  let trouble = $state("");

  const keeps = $derived(visitor.workspaces?.find((w) => w.name === workspace)?.role === "admin");

  async function load() {
    if (!workspace) return;
    const { data, error } = await api.GET("/api/v1/workspaces/{workspace}/members", {
      params: { path: { workspace } },
    });
    if (error) trouble = sentence(error);
    else members = data.items;
  }
  $effect(() => {
    load();
  });

  async function did(error: unknown) {
    trouble = error ? sentence(error) : "";
    await load();
  }

  async function give(e: Event) {
    e.preventDefault();
    const { error } = await api.PUT("/api/v1/workspaces/{workspace}/members/{user}", {
      params: { path: { workspace, user: person } },
      body: { role },
    });
    if (!error) person = "";
    did(error);
  }

  async function take(user: string) {
    const { error } = await api.DELETE("/api/v1/workspaces/{workspace}/members/{user}", {
      params: { path: { workspace, user } },
    });
    did(error);
  }

  async function make(e: Event) {
    e.preventDefault();
    const { error } = await api.POST("/api/v1/workspaces", { body: { name: fresh } });
    trouble = error ? sentence(error) : "";
    if (error) return;
    await visitor.load();
    workspace = fresh;
    fresh = "";
  }
</script>

<h2>Workspaces</h2>
<p>
  A workspace holds models, scenarios and runs. A <em>viewer</em> reads, an <em>editor</em> changes and runs, an
  <em>admin</em> gives others a role.
</p>
{#if trouble}<InlineNotification
    lowContrast
    kind="error"
    title="The members were not changed."
    subtitle={trouble}
  />{/if}
<Select labelText="Workspace" bind:selected={workspace} inline>
  {#each visitor.workspaces ?? [] as w (w.name)}<SelectItem
      value={w.name}
      text={`${w.name} (${w.models} ${w.models === 1 ? "model" : "models"}, you: ${w.role})`}
    />{/each}
</Select>
{#if members.length === 0}
  <p class="quiet">It has no members beside those who administer the service.</p>
{:else}
  <DataTable
    size="short"
    rows={members.map((m) => ({ id: m.user, ...m }))}
    headers={[
      { key: "user", value: "Person" },
      { key: "role", value: "Role" },
      { key: "id", empty: true },
    ]}
  >
    <svelte:fragment slot="cell" let:row let:cell>
      {#if cell.key === "id"}
        {#if keeps}<Button
            kind="danger-ghost"
            size="small"
            icon={TrashCan}
            iconDescription={`Take the role of ${row.user} away`}
            on:click={() => take(row.user)}
          />{/if}
      {:else}{cell.value}{/if}
    </svelte:fragment>
  </DataTable>
{/if}
{#if keeps}
  <Form on:submit={give} class="row">
    <TextInput labelText="Person" bind:value={person} />
    <Select labelText="Role" bind:selected={role}
      ><SelectItem value="viewer" /><SelectItem value="editor" /><SelectItem value="admin" /></Select
    >
    <Button type="submit" size="field" disabled={!person}>Give the role</Button>
  </Form>
{/if}
{#if admin}
  <h2>Another workspace</h2>
  <Form on:submit={make} class="row">
    <TextInput
      labelText="Name"
      placeholder="night-crossings"
      helperText="Lower-case letters, digits, hyphens"
      bind:value={fresh}
    />
    <Button type="submit" size="field" disabled={!isName(fresh)}>Make a workspace</Button>
  </Form>
{/if}
