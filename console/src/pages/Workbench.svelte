<script lang="ts">
  import { Button, ContentSwitcher, InlineNotification, Loading, Select, SelectItem, Switch } from "carbon-components-svelte";
  import Play from "carbon-icons-svelte/lib/Play.svelte";
  import Save from "carbon-icons-svelte/lib/Save.svelte";
  import { api, sentence, troubles, type Board as Drawn, type Finding, type Schemas, type Trouble } from "../lib/api";
  import { here } from "../lib/here.svelte";
  import Board from "../parts/Board.svelte";
  import FindingCounts from "../parts/FindingCounts.svelte";
  import Findings from "../parts/Findings.svelte";
  import History from "../parts/History.svelte";
  import ScenarioEditor from "../parts/ScenarioEditor.svelte";
  import TextEditor from "../parts/TextEditor.svelte";
  import TryMessage from "../parts/TryMessage.svelte";
  import { navigate, route } from "../router";

  const name = route.getParams("/w/:workspace/models/:name").name;

  let text = $state("");
  let saved = $state("");
  let revision = $state(0);
  let checked = $state.raw<Schemas["Checked"] | undefined>();
  let board = $state.raw<Drawn>({ nodes: [], links: [] });
  let wrong = $state.raw<Trouble[]>([]);
  let notice = $state<{ kind: "error" | "success"; title: string; subtitle: string } | undefined>();
  let scenarios = $state.raw<Schemas["Scenario"][]>([]);
  let scenario = $state("");
  let chosen = $state("");
  let line = $state(0);
  let ready = $state(false);
  let below = $state(0); // 0: findings, 1: try a message, 2: history
  let scenarioEditor = $state<ReturnType<typeof ScenarioEditor>>();
  let beside = $state(0); // 0: the model's text, 1: the scenario's
  let lit = $state.raw(new Map<string, string>());
  let litLinks = $state.raw(new Set<string>());

  const findings = $derived<Finding[]>(checked?.check?.findings ?? []);
  const marks = $derived([
    ...wrong.map((t) => ({ ...t, severity: "error" as const })),
    ...(wrong.length ? [] : findings.filter((f) => !f.accepted).map((f) => ({ message: `${f.code}: ${f.message}`, line: f.position.line, column: f.position.column, severity: f.severity === "error" ? ("error" as const) : f.severity === "warning" ? ("warning" as const) : ("info" as const) }))),
  ]);
  const unsaved = $derived(text !== saved);

  async function load() {
    const [latest, list] = await Promise.all([api.GET("/api/v1/workspaces/{workspace}/models/{name}", { params: { path: { workspace: here(), name } } }), api.GET("/api/v1/workspaces/{workspace}/models/{name}/scenarios", { params: { path: { workspace: here(), name } } })]);
    if (latest.error) {
      notice = { kind: "error", title: "The model could not be opened.", subtitle: sentence(latest.error) };
      return;
    }
    text = saved = latest.data.text ?? "";
    revision = latest.data.number;
    scenarios = list.data?.items ?? [];
    scenario = scenarios[0]?.name ?? "";
    ready = true;
    await check();
  }
  load();

  let asked = 0;
  async function check() {
    const turn = ++asked;
    const { data, error } = await api.POST("/api/v1/check", { body: { text } });
    if (turn !== asked) return; // a later edit has been asked about
    if (error) {
      wrong = troubles(error);
      if (wrong.length === 0) notice = { kind: "error", title: "Not checked.", subtitle: sentence(error) };
      return;
    }
    wrong = [];
    checked = data;
    board = data.board;
  }

  let timer: ReturnType<typeof setTimeout> | undefined;
  function edit(next: string) {
    if (next === text) return;
    text = next;
    clearTimeout(timer);
    timer = setTimeout(check, 200);
  }

  /** Writes a remedy into the text; undo takes it back like any other edit. */
  async function apply(remedy: Finding["remedies"][number]) {
    const before = text;
    const { data, error } = await api.POST("/api/v1/apply", { body: { text, patch: remedy.patch } });
    if (error) notice = { kind: "error", title: "Not applied.", subtitle: [sentence(error), ...troubles(error).map((t) => t.message)].join(" ") };
    else if (text !== before) notice = { kind: "error", title: "Not applied.", subtitle: "The text has changed meanwhile; press again." };
    else {
      edit(data.text);
      notice = { kind: "success", title: `Applied: ${remedy.say}.`, subtitle: "Undo in the text takes it back." };
    }
  }

  /** Puts an earlier revision's text into the editor; it is kept once it is saved. */
  function restore(old: string, number: number) {
    edit(old);
    notice = { kind: "success", title: `Revision ${number} is in the editor.`, subtitle: "Save to keep it; undo in the text takes it back." };
  }

  async function save() {
    const { data, error } = await api.POST("/api/v1/workspaces/{workspace}/models/{name}/revisions", { params: { path: { workspace: here(), name }, header: { "If-Match": `"${revision}"` } }, body: { text } });
    if (error) {
      wrong = troubles(error);
      notice = { kind: "error", title: "Not saved.", subtitle: sentence(error) };
      return false;
    }
    saved = text;
    revision = data.number;
    notice = { kind: "success", title: `Saved as revision ${revision}.`, subtitle: "" };
    return true;
  }

  async function run() {
    if (unsaved && !(await save())) return;
    if (!(await scenarioEditor?.keep())) {
      beside = 1; // what is wrong with it is told there
      return;
    }
    const { data, error } = await api.POST("/api/v1/workspaces/{workspace}/models/{name}/runs", { params: { path: { workspace: here(), name } }, body: { scenario } });
    if (error) {
      const places = troubles(error).map((t) => t.message);
      notice = { kind: "error", title: "Not run.", subtitle: [sentence(error), ...places].join(" ") };
    } else navigate("/w/:workspace/runs/:id", { params: { workspace: here(), id: String(data.id) } });
  }

  function keys(e: KeyboardEvent) {
    if ((e.ctrlKey || e.metaKey) && e.key === "s") {
      e.preventDefault();
      if (unsaved) save();
    }
  }

  function choose(node: string, at: number) {
    chosen = node;
    line = at;
  }
</script>

<svelte:head><title>{name} · Iron Weir</title></svelte:head>
<svelte:window onkeydown={keys} onbeforeunload={(e) => unsaved && e.preventDefault()} />

{#if !ready}
  <div class="page">
    {#if notice}
      <InlineNotification kind={notice.kind} title={notice.title} subtitle={notice.subtitle} hideCloseButton />
    {:else}
      <Loading withOverlay={false} description="Opening the model" />
    {/if}
  </div>
{:else}
  <div class="bench" id="main-content">
    <div class="bar">
      <h1>{name}</h1>
      <span class="quiet">revision {revision}{unsaved ? ", changed" : ""}</span>
      {#if wrong.length}
        <span class="broken">cannot be read: {wrong.length} {wrong.length === 1 ? "place" : "places"}</span>
      {:else if checked?.check}
        <FindingCounts errors={checked.check.summary.errors} warnings={checked.check.summary.warnings} notes={checked.check.summary.notes} />
      {/if}
      <div class="actions">
        <Button size="small" kind="tertiary" icon={Save} disabled={!unsaved} on:click={save}>Save</Button>
        {#if scenarios.length}
          <Select hideLabel labelText="Scenario" size="sm" inline bind:selected={scenario}>
            {#each scenarios as s (s.name)}<SelectItem value={s.name} text={s.name} />{/each}
          </Select>
          <Button size="small" icon={Play} disabled={wrong.length > 0} on:click={run}>Run</Button>
        {:else}
          <Button size="small" kind="tertiary" on:click={() => (beside = 1)}>Make a scenario to run</Button>
        {/if}
      </div>
    </div>
    {#if notice}
      <InlineNotification lowContrast kind={notice.kind} title={notice.title} subtitle={notice.subtitle} on:close={() => (notice = undefined)} style="max-width: none; margin: 0" timeout={notice.kind === "success" ? 4000 : 0} />
    {/if}
    <div class="drawn"><Board {board} {findings} {chosen} onchoose={choose} lit={below === 1 ? lit : undefined} litLinks={below === 1 ? litLinks : undefined} /></div>
    <div class="found">
      <ContentSwitcher size="sm" bind:selectedIndex={below} aria-label="Below the board"><Switch text="Findings" /><Switch text="Try a message" /><Switch text="History" /></ContentSwitcher>
      <div class="inner">
        {#if below === 0}
          <Findings {findings} {wrong} onchoose={choose} onapply={apply} />
        {:else if below === 2}
          <History {name} {revision} {text} onrestore={restore} />
        {:else}
          <TryMessage {text} {board} {chosen} onlit={(nodes, links) => ((lit = nodes), (litLinks = links))} />
        {/if}
      </div>
    </div>
    <div class="text">
      <ContentSwitcher size="sm" bind:selectedIndex={beside} aria-label="Beside the board"><Switch text="Model" /><Switch text="Scenario" /></ContentSwitcher>
      <div class="inner" hidden={beside === 1}><TextEditor {text} {marks} {line} onedit={edit} label="The model's text" /></div>
      <div class="inner" hidden={beside === 0}>
        <ScenarioEditor bind:this={scenarioEditor} model={name} entry={board.nodes.find((n) => n.role === "holds" || n.role === "starts")?.name ?? ""} bind:scenarios bind:chosen={scenario} />
      </div>
    </div>
  </div>
{/if}

<style>
  .bench { display: grid; height: calc(100vh - 3rem); grid-template: auto auto 1fr 16rem / minmax(0, 1.6fr) minmax(0, 1fr); }
  .bar { grid-column: 1 / -1; display: flex; align-items: center; gap: 0.75rem; padding: 0.5rem 1rem; border-bottom: 1px solid var(--cds-ui-03); }
  .bar h1 { font-size: 1.125rem; font-weight: 600; }
  .broken { color: var(--cds-support-01); }
  .actions { margin-left: auto; display: flex; align-items: center; gap: 0.5rem; }
  .bench > :global(.bx--inline-notification) { grid-column: 1 / -1; }
  .drawn { grid-column: 1; grid-row: 3; min-height: 0; }
  .found { grid-column: 1; grid-row: 4; min-height: 0; display: flex; flex-direction: column; border-top: 1px solid var(--cds-ui-03); }
  .found > :global(.bx--content-switcher) { max-width: 26rem; flex: none; margin: 0.375rem 0.75rem; }
  .inner { flex: 1; min-height: 0; overflow: auto; }
  .text { grid-column: 2; grid-row: 3 / 5; min-height: 0; border-left: 1px solid var(--cds-ui-03); display: flex; flex-direction: column; }
  .text > :global(.bx--content-switcher) { max-width: 16rem; flex: none; margin: 0.375rem 0.75rem; }
  .text > .inner { overflow: hidden; }
  @media (max-width: 800px) {
    .bench { grid-template: auto auto 45vh auto 60vh / 1fr; overflow: auto; }
    .bar { flex-wrap: wrap; }
    .found { grid-row: 4; max-height: 40vh; }
    .text { grid-column: 1; grid-row: 5; border-left: none; }
  }
</style>
