<script lang="ts">
  import { InlineNotification, Select, SelectItem } from "carbon-components-svelte";
  import { untrack } from "svelte";
  import { api, sentence, type Schemas } from "../lib/api";
  import { visitor } from "../lib/workspace.svelte";
  import Revocable from "./Revocable.svelte";

  let workspace = $state(untrack(() => visitor.home ?? ""));
  let shares = $state.raw<Schemas["Share"][]>([]);
  let trouble = $state("");

  $effect(() => {
    if (workspace) load(workspace);
  });
  async function load(of: string) {
    const { data, error } = await api.GET("/api/v1/workspaces/{workspace}/shares", {
      params: { path: { workspace: of } },
    });
    trouble = error ? sentence(error) : "";
    if (of === workspace) shares = data?.items ?? [];
  }
  async function revoke(id: number) {
    const { error } = await api.DELETE("/api/v1/workspaces/{workspace}/shares/{id}", {
      params: { path: { workspace, id } },
    });
    if (error) trouble = sentence(error);
    else load(workspace);
  }
</script>

<h2>Share links</h2>
<p>Anyone with such a link can read one run, rehearsal or revision, until it expires or is revoked.</p>
{#if trouble}<InlineNotification lowContrast kind="error" title="Share links" subtitle={trouble} />{/if}
{#if (visitor.workspaces?.length ?? 0) > 1}
  <Select labelText="Workspace" bind:selected={workspace}>
    {#each visitor.workspaces ?? [] as w (w.name)}<SelectItem value={w.name} />{/each}
  </Select>
{/if}
{#if shares.length === 0}
  <p class="quiet">No share link is open in this workspace. Press Share on a result, a rehearsal or a model.</p>
{:else}
  <Revocable
    rows={shares.map((s) => ({ ...s }))}
    headers={[
      { key: "what", value: "What" },
      { key: "user", value: "Shared by" },
      { key: "expires_at", value: "Expires" },
      { key: "used_at", value: "Last read" },
    ]}
    label={(row) => `Revoke the link to ${row.what}`}
    onrevoke={revoke}
  />
{/if}
