<script lang="ts">
  import { Button, ContentSwitcher, InlineNotification, Modal, Switch, TextInput } from "carbon-components-svelte";
  import Add from "carbon-icons-svelte/lib/Add.svelte";
  import Save from "carbon-icons-svelte/lib/Save.svelte";
  import { api, sentence, problems, type Board, type Schemas, type Problem } from "../lib/api";
  import { currentWorkspace, visitor } from "../lib/workspace.svelte";
  import Later from "./Later.svelte";
  import ScenarioForm from "./ScenarioForm.svelte";
  import TextEditor from "./TextEditor.svelte";
  import { isName } from "../lib/names";

  let {
    model,
    entry,
    board,
    before,
    scenarios = $bindable(),
    chosen = $bindable(),
  }: {
    model: string;
    entry: string;
    board: Board;
    before: () => Promise<boolean>;
    scenarios: Schemas["Scenario"][];
    chosen: string;
  } = $props();

  let drafts = $state<Record<string, string>>({}); // edited and not saved yet
  let wrong = $state.raw<Problem[]>([]);
  let trouble = $state("");
  let making = $state(false);
  let as = $state(0); // 0: as text, 1: as a form
  const edit = (t: string) => (t === kept ? delete drafts[chosen] : (drafts[chosen] = t));
  let name = $state("");

  const kept = $derived(scenarios.find((s) => s.name === chosen)?.text ?? "");
  const text = $derived(drafts[chosen] ?? kept);
  const unsaved = $derived(text !== kept);

  $effect(() => {
    void chosen;
    [wrong, trouble] = [[], ""];
  });

  /** Saves what is not saved yet; tells whether the scenario can be run. */
  export async function keep() {
    if (unsaved) await save();
    return !unsaved;
  }

  async function save() {
    // It is read against the model as it is saved.
    if (!(await before())) {
      trouble = "The model that it is for could not be saved first.";
      return;
    }
    const [saved, now] = [chosen, text];
    const { error } = await api.PUT("/api/v1/workspaces/{workspace}/models/{name}/scenarios/{text}", {
      params: { path: { workspace: currentWorkspace(), name: model, text: saved } },
      body: { text: now },
    });
    wrong = error ? problems(error) : [];
    trouble = error ? sentence(error) : "";
    if (error) return;
    scenarios = scenarios.map((s) => (s.name === saved ? { ...s, text: now } : s));
    if (drafts[saved] === now) delete drafts[saved]; // else it has been edited meanwhile
  }

  const template = (called: string) => `ironweir: scenario/1
name: ${called}
about: What happens on this day, in a sentence.
length: 8h
replications: 3
traffic:
  usual: {into: ${entry || "NODE"}, rate: 60/h}
incidents: {}
#  down: {at: 2h, for: 30m, node: NODE, fails: 100%}
expect:
  nothing-lost: run.ledger.lost.total == 0
`;

  /** Makes a scenario that is saved once it can be read. */
  async function make() {
    scenarios = [...scenarios, { name, text: "" } as Schemas["Scenario"]];
    drafts[name] = template(name);
    chosen = name;
    making = false;
    await save();
  }
</script>

<div class="pane">
  <div class="tools">
    <span class="mono">{chosen || "no scenario yet"}</span>{#if unsaved}<span class="quiet">changed</span>{/if}
    <Button size="small" kind="ghost" icon={Add} on:click={() => ((name = ""), (making = true))}>New scenario</Button>
    <Button size="small" kind="tertiary" icon={Save} disabled={!chosen || !unsaved} on:click={save}
      >Save scenario</Button
    >
  </div>
  {#if trouble}
    <InlineNotification
      kind="error"
      lowContrast
      title="Not saved."
      subtitle={[trouble, ...wrong.map((t) => `Line ${t.line}: ${t.message}`)].join(" ")}
      on:close={() => (trouble = "")}
      style="max-width: none; margin: 0"
    />
  {/if}
  {#if chosen}
    <ContentSwitcher
      size="sm"
      bind:selectedIndex={as}
      aria-label="The scenario as"
      style="flex: none; width: 14rem; margin: 0.375rem 0.75rem"
      ><Switch text="Text" /><Switch text="Form" /></ContentSwitcher
    >
    <div class="text" hidden={as !== 0}>
      <TextEditor
        {text}
        marks={wrong.map((t) => ({ ...t, severity: "error" as const }))}
        line={0}
        onedit={edit}
        label="The scenario's text"
      />
    </div>
    {#if as === 1}<div class="text"><ScenarioForm {text} {board} edits={visitor.edits} onedit={edit} /></div>{/if}
  {:else}
    <p class="empty quiet">
      A scenario states the traffic, the incidents and the expectations. Create one to run the model.
    </p>
  {/if}
</div>

<Later wanted={making}>
  <Modal
    bind:open={making}
    size="sm"
    modalHeading="New scenario"
    primaryButtonText="Make it"
    secondaryButtonText="Cancel"
    primaryButtonDisabled={!isName(name) || scenarios.some((s) => s.name === name)}
    on:click:button--secondary={() => (making = false)}
    on:submit={make}
    selectorPrimaryFocus="#scenario-name"
  >
    <TextInput
      id="scenario-name"
      labelText="Name"
      placeholder="friday-evening"
      helperText="Small letters, digits and hyphens, starting with a letter."
      bind:value={name}
      invalid={scenarios.some((s) => s.name === name)}
      invalidText="There is one of that name."
    />
  </Modal>
</Later>

<style>
  .pane {
    display: flex;
    flex-direction: column;
    height: 100%;
  }
  .tools {
    display: flex;
    align-items: center;
    gap: 0.5rem;
    padding: 0.25rem 0.75rem;
    border-bottom: 1px solid var(--cds-ui-03);
  }
  .tools > :global(:nth-last-child(2)) {
    margin-left: auto;
  }
  .text {
    flex: 1;
    min-height: 0;
  }
  .empty {
    padding: 1rem;
  }
</style>
