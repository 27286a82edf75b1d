<script lang="ts">
  import { InlineNotification, Modal, TextInput, UnorderedList, ListItem } from "carbon-components-svelte";
  import { api, sentence, problems, type Schemas } from "../lib/api";
  import { currentWorkspace } from "../lib/workspace.svelte";
  import { incoming } from "../lib/incoming";
  import { isActive, navigate, p } from "../router";
  import { isName } from "../lib/names";

  let picker: HTMLInputElement;
  let over = $state(false);
  incoming.pick = () => picker.click();
  let open = $state(false);
  let file = $state("");
  let name = $state("");
  let read = $state.raw<Schemas["Imported"] | undefined>();
  let refused = $state("");
  let places = $state.raw<string[]>([]);

  const formats: Record<string, string> = {
    model: "a model",
    asyncapi: "an AsyncAPI document",
    openapi: "an OpenAPI document",
    workflow: "a workflow document",
    csv: "an inventory (CSV)",
    jsonl: "an inventory (JSON Lines)",
    otlp: "OpenTelemetry traces",
  };

  /** Reads a file through the service and shows what it comes to; nothing is kept until it is named. */
  async function take(chosen: File | undefined | null) {
    over = false;
    if (!chosen) return;
    file = chosen.name;
    name = chosen.name
      .toLowerCase()
      .replace(/\.[a-z.]*$/, "")
      .replace(/[^a-z0-9]+/g, "-")
      .replace(/^[^a-z]+|-+$/g, "")
      .slice(0, 63);
    [read, refused, places] = [undefined, "", []];
    open = true;
    const bytes = new Uint8Array(await chosen.arrayBuffer());
    let binary = "";
    for (let i = 0; i < bytes.length; i += 0x8000) binary += String.fromCharCode(...bytes.subarray(i, i + 0x8000));
    const { data, error } = await api.POST("/api/v1/import", { body: { name: chosen.name, content: btoa(binary) } });
    if (error) {
      refused = sentence(error);
      places = problems(error).map((t) => `${t.line ? `line ${t.line}: ` : ""}${t.message}`);
    } else read = data;
  }

  async function keep() {
    if (!read) return;
    const { error } = await api.POST("/api/v1/workspaces/{workspace}/models", {
      params: { path: { workspace: currentWorkspace() } },
      body: { name, text: read.text, note: `imported from ${file}` },
    });
    if (error) {
      refused = sentence(error);
      return;
    }
    if (read.scenario)
      await api.PUT("/api/v1/workspaces/{workspace}/models/{name}/scenarios/{text}", {
        params: { path: { workspace: currentWorkspace(), name, text: "observed" } },
        body: { text: read.scenario },
      });
    open = false;
    // Dropped on a model's page, the other model needs a page of its own.
    if (isActive("/w/:workspace/models/:name"))
      globalThis.location.assign(p("/w/:workspace/models/:name", { params: { workspace: currentWorkspace(), name } }));
    else navigate("/w/:workspace/models/:name", { params: { workspace: currentWorkspace(), name } });
  }

  function drag(e: DragEvent) {
    if (!e.dataTransfer?.types.includes("Files")) return;
    e.preventDefault();
    over = true;
  }
</script>

<svelte:window
  ondragover={drag}
  ondragleave={(e) => e.relatedTarget === null && (over = false)}
  ondrop={(e) => {
    e.preventDefault();
    take(e.dataTransfer?.files[0]);
  }}
/>

<input
  bind:this={picker}
  type="file"
  hidden
  aria-label="File to import"
  accept=".yaml,.yml,.json,.jsonl,.ndjson,.csv,.pb"
  onchange={() => {
    take(picker.files?.[0]);
    picker.value = "";
  }}
/>

{#if over}
  <div class="over" role="status">
    Let go to import: a model, an AsyncAPI document, an inventory, or OpenTelemetry traces
  </div>
{/if}

<Modal
  bind:open
  modalHeading="Import {file}"
  primaryButtonText="Keep it"
  secondaryButtonText="Cancel"
  primaryButtonDisabled={!read || !isName(name)}
  on:click:button--secondary={() => (open = false)}
  on:submit={keep}
  selectorPrimaryFocus="#import-name"
>
  {#if refused && !read}
    <InlineNotification kind="error" lowContrast hideCloseButton title="It could not be read." subtitle={refused} />
    <UnorderedList
      >{#each places as place, i (i)}<ListItem>{place}</ListItem>{/each}</UnorderedList
    >
  {:else if !read}
    <p class="quiet">Reading…</p>
  {:else}
    <p>Read as {formats[read.format]}.{read.scenario ? " Its traffic is saved as the scenario “observed”." : ""}</p>
    {#if read.missing.length}
      <h4>Not in the document</h4>
      <UnorderedList
        >{#each read.missing as m (m)}<ListItem>{m}</ListItem>{/each}</UnorderedList
      >
    {/if}
    <div class="name">
      <TextInput id="import-name" labelText="Name" bind:value={name} invalid={refused !== ""} invalidText={refused} />
    </div>
  {/if}
</Modal>

<style>
  .over {
    position: fixed;
    inset: 3.5rem 1rem 1rem;
    display: grid;
    place-items: center;
    font-size: 1.25rem;
    border: 2px dashed var(--cds-interactive-01);
    background: color-mix(in srgb, var(--cds-ui-background) 88%, transparent);
    z-index: 7000;
    pointer-events: none;
  }
  h4 {
    margin: 0.75rem 0 0.25rem;
    font-size: 0.875rem;
    font-weight: 600;
  }
  :global(.bx--modal-content .bx--list--unordered) {
    margin-left: 1rem;
  }
  .name {
    margin-top: 1rem;
  }
</style>
