<script lang="ts">
  import { InlineNotification, Modal, RadioTile, TextInput, TileGroup } from "carbon-components-svelte";
  import { tick, untrack } from "svelte";
  import { api, sentence, type Schemas } from "../lib/api";
  import { currentWorkspace } from "../lib/workspace.svelte";
  import { navigate } from "../router";
  import { isName } from "../lib/names";

  let { open = $bindable(false), begin = "queue-worker" }: { open: boolean; begin?: string } = $props();

  let starters = $state.raw<Schemas["Starter"][]>([]);
  let chosen = $state(untrack(() => begin));
  let name = $state("");
  let refused = $state("");
  let choice = $state<HTMLElement>();

  $effect(() => {
    if (open && starters.length === 0) load();
  });

  async function load() {
    const { data, error } = await api.GET("/api/v1/starters");
    if (error) {
      refused = sentence(error);
      return;
    }
    starters = data.starters ?? [];
  }

  // What is chosen is in sight, also when the arrow keys choose it.
  $effect(() => {
    if (chosen && starters.length)
      tick().then(() => choice?.querySelector(".bx--tile--is-selected")?.scrollIntoView({ block: "nearest" }));
  });

  const starter = $derived(starters.find((s) => s.name === chosen));
  const empty = $derived(chosen === "empty");
  const picture = $derived(starter?.picture ? "data:image/svg+xml," + encodeURIComponent(starter.picture) : "");

  /** Makes the model, and the starter's scenario beside it. */
  async function create() {
    const text = starter
      ? starter.text.replace(/^name: .*$/m, `name: ${name}`)
      : `ironweir: topology/1\nname: ${name}\nnodes: {}\n`;
    const { error } = await api.POST("/api/v1/workspaces/{workspace}/models", {
      params: { path: { workspace: currentWorkspace() } },
      body: { name, text },
    });
    if (error) {
      refused = sentence(error);
      return;
    }
    if (!starter) {
      navigate("/w/:workspace/models/:name", { params: { workspace: currentWorkspace(), name } });
      return;
    }
    const scenario = /^name: ([a-z][a-z0-9-]*)$/m.exec(starter.scenario)?.[1] ?? "first";
    await api.PUT("/api/v1/workspaces/{workspace}/models/{name}/scenarios/{text}", {
      params: { path: { workspace: currentWorkspace(), name, text: scenario } },
      body: { text: starter.scenario },
    });
    navigate("/w/:workspace/models/:name", { params: { workspace: currentWorkspace(), name } });
  }
</script>

<Modal
  bind:open
  size="lg"
  modalHeading="New model"
  primaryButtonText="Make it"
  secondaryButtonText="Cancel"
  primaryButtonDisabled={(!starter && !empty) || !isName(name)}
  on:click:button--secondary={() => (open = false)}
  on:submit={create}
  selectorPrimaryFocus="#new-name"
>
  <TextInput
    id="new-name"
    labelText="Name"
    placeholder="ferry-check-in"
    helperText="Small letters, digits and hyphens, starting with a letter."
    bind:value={name}
    invalid={refused !== ""}
    invalidText={refused}
  />
  <div class="choice" bind:this={choice}>
    <TileGroup legendText="Begin with" bind:selected={chosen}>
      <RadioTile value="empty"
        ><strong>an empty board</strong><br /><span class="quiet">Nothing yet: draw it node by node.</span></RadioTile
      >
      {#each starters as s (s.name)}
        <RadioTile value={s.name}><strong>{s.name}</strong><br /><span class="quiet">{s.about}</span></RadioTile>
      {/each}
    </TileGroup>
    <figure>
      {#if picture}
        <img src={picture} alt="{chosen} as a picture" />
      {:else if starter}
        <InlineNotification
          kind="info"
          lowContrast
          hideCloseButton
          title="No picture:"
          subtitle="the service has no Graphviz."
        />
      {/if}
      {#if starter}<figcaption class="quiet">
          <strong>{chosen}</strong> comes with a scenario in which something goes wrong.
        </figcaption>{/if}
    </figure>
  </div>
</Modal>

<style>
  .choice {
    display: grid;
    grid-template-columns: minmax(0, 1fr) minmax(0, 1.1fr);
    gap: 1rem;
    margin-top: 1rem;
  }
  .choice > :global(fieldset) {
    position: relative;
    max-height: 20rem;
    overflow: auto;
  }
  figure {
    margin: 0;
    display: flex;
    flex-direction: column;
    gap: 0.5rem;
  }
  img {
    width: 100%;
    max-height: 18rem;
    object-fit: contain;
    background: #fff;
    padding: 0.5rem;
  }
  @media (max-width: 800px) {
    .choice {
      grid-template-columns: 1fr;
    }
  }
</style>
