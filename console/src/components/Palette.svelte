<script lang="ts">
  import { api, type Schemas } from "../lib/api";
  import { found, palette, type Command } from "../lib/palette.svelte";
  import { theme } from "../lib/theme.svelte";
  import { currentWorkspace, visitor } from "../lib/workspace.svelte";
  import { navigate } from "../router";
  import NewModel from "./NewModel.svelte";
  import RuleExplained from "./RuleExplained.svelte";

  let dialog = $state<HTMLDialogElement>();
  let looked = $state("");
  let at = $state(0);
  let list = $state<HTMLElement>();
  let lists = $state.raw<{
    models: string[];
    starters: Schemas["Starter"][];
    runs: Schemas["Run"][];
    rules: Schemas["RuleOf"][];
  }>({ models: [], starters: [], runs: [], rules: [] });
  let rule = $state<RuleExplained>();
  let making = $state(false);
  let beginWith = $state("");

  const pages = $derived.by((): Command[] => {
    const workspace = currentWorkspace();
    const to = (text: string, run: () => void, also = "") => ({ group: "Pages", text, run, also });
    return [
      to("Models", () => navigate("/w/:workspace", { params: { workspace } })),
      to("Runs", () => navigate("/w/:workspace/runs", { params: { workspace } }), "results simulations"),
      to("Settings", () => navigate("/settings"), "members tokens password audit workers"),
      to(theme.dark ? "Light theme" : "Dark theme", theme.toggle),
    ];
  });
  const models = $derived(
    lists.models.map((name): Command => ({
      group: "Models",
      text: name,
      run: () => navigate("/w/:workspace/models/:name", { params: { workspace: currentWorkspace(), name } }),
    })),
  );
  const starters = $derived(
    visitor.edits
      ? lists.starters.map((s): Command => ({
          group: "New model",
          text: s.name,
          hint: s.about,
          run: () => ((beginWith = s.name), (making = true)),
        }))
      : [],
  );
  const runs = $derived(
    lists.runs.map((r): Command => ({
      group: "Runs",
      text: `run ${r.id}: ${r.model}, ${r.scenario}`,
      hint: r.state,
      run: () => navigate("/w/:workspace/runs/:id", { params: { workspace: currentWorkspace(), id: String(r.id) } }),
    })),
  );
  const rules = $derived(
    lists.rules.map((r): Command => ({
      group: "Rules",
      text: `${r.code} ${r.title}`,
      hint: r.severity,
      run: () => rule?.explain(r.code),
    })),
  );
  const all = $derived(
    palette.asked?.answers ?? [...palette.page, ...models, ...pages, ...runs, ...starters, ...rules],
  );
  const shown = $derived(found(all, looked));
  const title = $derived(palette.asked?.title ?? "Find a node, model, run, rule, page or command");

  $effect(() => {
    if (!palette.open) dialog?.close();
    else if (dialog && !dialog.open) {
      looked = "";
      dialog.showModal();
      load();
    }
  });
  $effect(() => {
    void looked;
    at = 0;
  });
  $effect(() => {
    list?.querySelector(`#palette-${at}`)?.scrollIntoView({ block: "nearest" });
  });

  async function load() {
    const workspace = currentWorkspace();
    const [models, starters, runs, rules] = await Promise.all([
      api.GET("/api/v1/workspaces/{workspace}/models", { params: { path: { workspace } } }),
      api.GET("/api/v1/starters"),
      api.GET("/api/v1/workspaces/{workspace}/runs", { params: { path: { workspace }, query: { limit: 50 } } }),
      api.GET("/api/v1/rules"),
    ]);
    lists = {
      models: models.data?.items?.map((m) => m.name) ?? [],
      starters: starters.data?.starters ?? [],
      runs: runs.data?.items ?? [],
      rules: rules.data?.rules ?? [],
    };
  }

  function choose(command: Command | undefined) {
    if (!command) return;
    palette.close();
    dialog?.close(); // now, so that the focus it gives back is not taken from what runs
    command.run();
  }
  function keys(e: KeyboardEvent) {
    const step = { ArrowDown: 1, ArrowUp: -1, PageDown: 8, PageUp: -8 }[e.key];
    if (step) at = Math.min(Math.max(at + step, 0), Math.max(shown.length - 1, 0));
    else if (e.key === "Enter") choose(shown[at]);
    else return;
    e.preventDefault();
  }
</script>

<svelte:window
  onkeydown={(e) => {
    if ((e.ctrlKey || e.metaKey) && e.key.toLowerCase() === "k") {
      e.preventDefault();
      palette.open = true;
    }
  }}
/>

<dialog
  bind:this={dialog}
  aria-label="Palette"
  oncancel={() => palette.close()}
  onclose={() => dialog?.open || palette.close()}
  onclick={(e) => e.target === dialog && palette.close()}
>
  <div class="box">
    <input
      type="text"
      role="combobox"
      aria-label={title}
      aria-expanded="true"
      aria-controls="palette-list"
      aria-activedescendant={shown.length ? `palette-${at}` : undefined}
      placeholder={title}
      autocomplete="off"
      spellcheck="false"
      bind:value={looked}
      onkeydown={keys}
    />
    <div class="list" role="listbox" id="palette-list" aria-label="What fits" bind:this={list}>
      {#each shown as command, i (command)}
        <!-- svelte-ignore a11y_click_events_have_key_events -->
        <div
          id="palette-{i}"
          role="option"
          tabindex="-1"
          class="option"
          aria-selected={i === at}
          onclick={() => choose(command)}
          onpointermove={() => (at = i)}
        >
          <span class="group">{i === 0 || shown[i - 1].group !== command.group ? command.group : ""}</span>
          <b>{command.text}</b>
          <span class="hint">{command.hint ?? ""}</span>
        </div>
      {/each}
    </div>
    {#if shown.length === 0}<p class="quiet" role="status">Nothing fits “{looked}”.</p>{/if}
  </div>
</dialog>

<RuleExplained bind:this={rule} />
{#if making}<NewModel bind:open={making} begin={beginWith} />{/if}

<style>
  dialog {
    width: min(40rem, calc(100vw - 2rem));
    margin: 10vh auto auto;
    padding: 0;
    border: 1px solid var(--cds-ui-04);
    background: var(--cds-ui-background);
    color: var(--cds-text-01);
    box-shadow: 0 8px 24px rgb(0 0 0 / 30%);
  }
  dialog::backdrop {
    background: rgb(0 0 0 / 40%);
  }
  input {
    width: 100%;
    padding: 0.75rem 1rem;
    border: none;
    border-bottom: 1px solid var(--cds-ui-03);
    background: var(--cds-field-01);
    color: inherit;
    font: inherit;
    font-size: 1rem;
  }
  input:focus-visible {
    outline: 2px solid var(--cds-focus, #0f62fe);
    outline-offset: -2px;
  }
  .list {
    max-height: 50vh;
    overflow: auto;
  }
  .option {
    display: grid;
    grid-template-columns: 6rem auto minmax(0, 1fr);
    gap: 0.75rem;
    align-items: baseline;
    padding: 0.375rem 1rem;
    font-size: 0.875rem;
    cursor: pointer;
  }
  .option[aria-selected="true"] {
    background: var(--cds-selected-ui);
  }
  .group {
    color: var(--cds-text-02);
    font-size: 0.75rem;
  }
  b {
    font-weight: 600;
    overflow-wrap: anywhere;
  }
  .hint {
    color: var(--cds-text-02);
    font-size: 0.75rem;
    white-space: nowrap;
    overflow: hidden;
    text-overflow: ellipsis;
    text-align: right;
  }
  p {
    padding: 0.75rem 1rem;
  }
</style>
