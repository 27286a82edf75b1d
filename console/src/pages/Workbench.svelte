<script lang="ts">
  import {
    Button,
    ContentSwitcher,
    InlineNotification,
    Loading,
    Modal,
    Select,
    SelectItem,
    Switch,
    TextInput,
  } from "carbon-components-svelte";
  import Activity from "carbon-icons-svelte/lib/Activity.svelte";
  import Keyboard from "carbon-icons-svelte/lib/Keyboard.svelte";
  import Play from "carbon-icons-svelte/lib/Play.svelte";
  import Redo from "carbon-icons-svelte/lib/Redo.svelte";
  import Save from "carbon-icons-svelte/lib/Save.svelte";
  import SettingsAdjust from "carbon-icons-svelte/lib/SettingsAdjust.svelte";
  import Undo from "carbon-icons-svelte/lib/Undo.svelte";
  import { api, sentence, problems, type Board as Drawn, type Finding, type Schemas, type Problem } from "../lib/api";
  import { currentWorkspace, visitor } from "../lib/workspace.svelte";
  import { plain } from "../lib/code";
  import { offersAt } from "../lib/complete";
  import { keepDraft, readDraft } from "../lib/draft";
  import { copied, freeName, pasted, patchAt } from "../lib/written";
  import Board from "../components/Board.svelte";
  import Changes from "../components/Changes.svelte";
  import FindingCounts from "../components/FindingCounts.svelte";
  import Findings from "../components/Findings.svelte";
  import Inspector from "../components/Inspector.svelte";
  import Schedules from "../components/Schedules.svelte";
  import Availability from "../components/Availability.svelte";
  import Plan from "../components/Plan.svelte";
  import Guarantees from "../components/Guarantees.svelte";
  import History from "../components/History.svelte";
  import Rehearse from "../components/Rehearse.svelte";
  import RunOptions from "../components/RunOptions.svelte";
  import Shortcuts from "../components/Shortcuts.svelte";
  import Splitter from "../components/Splitter.svelte";
  import ScenarioEditor from "../components/ScenarioEditor.svelte";
  import TextEditor from "../components/TextEditor.svelte";
  import TryMessage from "../components/TryMessage.svelte";
  import { navigate, route } from "../router";

  const name = route.getParams("/w/:workspace/models/:name").name;

  let text = $state("");
  let saved = $state("");
  let revision = $state(0);
  let checked = $state.raw<Schemas["Checked"] | undefined>();
  let board = $state.raw<Drawn>({ nodes: [], links: [] });
  let wrong = $state.raw<Problem[]>([]);
  let notice = $state<{ kind: "error" | "success"; title: string; subtitle: string; stays?: boolean } | undefined>();
  let scenarios = $state.raw<Schemas["Scenario"][]>([]);
  let scenario = $state("");
  let chosen = $state("");
  let link = $state(""); // the chosen link, where it is a link
  let document = $state.raw<Record<string, unknown>>({});
  let catalogue = $state.raw<Schemas["Catalogue"] | undefined>();
  let editor = $state<ReturnType<typeof TextEditor>>();
  let adding = $state<{ kind: string; name: string; wrong: string } | undefined>();
  let shortcuts = $state(false);
  let options = $state(false);
  let rehearsing = $state(false);
  let conflict = $state<
    { number: number; author: string; text: string; difference: Schemas["Difference"] | undefined } | undefined
  >();
  let line = $state(0);
  let ready = $state(false);
  let bottomPanel = $state(0); // 0: findings, 1: try a message, 2: guarantees, 3: availability, 4: schedules, 5: history
  let scenarioEditor = $state<ReturnType<typeof ScenarioEditor>>();
  let sidePanel = $state(0); // 0: the model's text, 1: the inspector, 2: the scenario's text
  let highlighted = $state.raw(new Map<string, string>());
  let highlightedLinks = $state.raw(new Set<string>());

  // The layout of the page: the share of the board, kept in this browser.
  const usual = { across: 0.69, down: 0.68 };
  let layout = $state({ ...usual, whole: false, ...JSON.parse(localStorage.getItem("ironweir-layout") ?? "{}") } as {
    across: number;
    down: number;
    whole: boolean;
  });
  $effect(() => localStorage.setItem("ironweir-layout", JSON.stringify(layout)));
  let bench = $state<HTMLElement>();
  let bar = $state<HTMLElement>();
  const parts = () => {
    const [all, above] = [bench?.getBoundingClientRect(), bar?.getBoundingClientRect()];
    return all && above ? new DOMRect(all.x, above.bottom, all.width, all.bottom - above.bottom) : undefined;
  };

  const findings = $derived<Finding[]>(checked?.check?.findings ?? []);
  const marks = $derived([
    ...wrong.map((t) => ({ ...t, severity: "error" as const })),
    ...(wrong.length
      ? []
      : findings
          .filter((f) => !f.accepted)
          .map((f) => ({
            message: `${f.code}: ${f.message}`,
            line: f.position.line,
            column: f.position.column,
            severity:
              f.severity === "error"
                ? ("error" as const)
                : f.severity === "warning"
                  ? ("warning" as const)
                  : ("info" as const),
          }))),
  ]);
  const unsaved = $derived(text !== saved);
  const alike = $derived.by(() => {
    const c = conflict?.difference?.changes;
    return (
      !!c &&
      [c.nodes_added, c.nodes_removed, c.links_added, c.links_removed, c.settings].every((l) => !l?.length) &&
      [c.nodes, c.links].every((m) => Object.keys(m ?? {}).length === 0)
    );
  });

  async function load() {
    const [latest, list] = await Promise.all([
      api.GET("/api/v1/workspaces/{workspace}/models/{name}", {
        params: { path: { workspace: currentWorkspace(), name } },
      }),
      api.GET("/api/v1/workspaces/{workspace}/models/{name}/scenarios", {
        params: { path: { workspace: currentWorkspace(), name } },
      }),
    ]);
    if (latest.error) {
      notice = { kind: "error", title: "The model was not opened.", subtitle: sentence(latest.error) };
      return;
    }
    text = saved = latest.data.text ?? "";
    revision = latest.data.number;
    const draft = readDraft(draftKey);
    if (draft && draft.text !== saved) {
      text = draft.text;
      notice = {
        kind: draft.revision === revision ? "success" : "error",
        stays: true,
        title: "What you had not saved is back.",
        subtitle:
          draft.revision === revision
            ? "History shows how it differs from what is saved."
            : `It was written on revision ${draft.revision}; the latest is ${revision}. Saving will show both.`,
      };
      base = draft.revision;
    } else base = revision;
    scenarios = list.data?.items ?? [];
    scenario = scenarios[0]?.name ?? "";
    ready = true;
    await check();
  }
  load();
  api.GET("/api/v1/catalogue").then(({ data }) => (catalogue = data));

  // What is not saved survives a reload and a browser that crashes.
  const draftKey = `ironweir-draft-${currentWorkspace()}-${name}`;
  let base = $state(0); // the revision that was edited
  $effect(() => {
    if (!ready) return;
    keepDraft(draftKey, text === saved ? undefined : { revision: base, text });
  });

  let asked = 0;
  let asking = false;
  let again = false; // the text has changed while it was asked about

  /** Asks about the text; once at a time, so that a large model is not asked about at every letter. */
  async function check() {
    if (asking) {
      again = true;
      return;
    }
    asking = true;
    const turn = ++asked;
    const { data, error } = await api.POST("/api/v1/check", { body: { text } }).finally(() => (asking = false));
    if (again) {
      again = false;
      check();
    }
    if (turn !== asked) return; // a later edit has been asked about
    if (error) {
      wrong = problems(error);
      if (wrong.length === 0) notice = { kind: "error", title: "Not checked.", subtitle: sentence(error) };
      return;
    }
    take(data);
  }
  function take(data: Schemas["Checked"]) {
    wrong = [];
    checked = data;
    board = data.board;
    document = data.document as Record<string, unknown>;
    if (link && !board.links.some((l) => l.id === link)) link = "";
    if (chosen && !board.nodes.some((n) => n.name === chosen)) chosen = "";
  }

  /** Has the service edit the text, and puts what comes out into the editor, unless it cannot be a model; says why not. */
  async function change(ask: (text: string) => Promise<{ data?: { text: string }; error?: unknown }>): Promise<string> {
    const before = text; // as it was when it was asked for: what is typed meanwhile must not be lost
    const meanwhile = "The text has changed meanwhile; try again.";
    const why = (problem: unknown) =>
      problems(problem)
        .map((t) => t.message)
        .join(" ") || sentence(problem);
    const changed = await ask(before);
    if (!changed.data) return why(changed.error);
    if (text !== before) return meanwhile;
    const { data, error } = await api.POST("/api/v1/check", { body: { text: changed.data.text } });
    if (!data && wrong.length === 0) return why(error);
    if (text !== before) return meanwhile;
    clearTimeout(timer);
    asked++;
    text = changed.data.text;
    if (data) take(data);
    else wrong = problems(error);
    return "";
  }
  const amend = (patch: Record<string, unknown>) =>
    change((text) => api.POST("/api/v1/apply", { body: { text, patch } }));
  const remove = (node: string) => change((text) => api.POST("/api/v1/remove", { body: { text, node } }));
  const rename = async (from: string, to: string) => {
    const why = await change((text) => api.POST("/api/v1/rename", { body: { text, from, to } }));
    if (!why) chosen = to;
    return why;
  };

  /** Removes what is chosen on the board. */
  async function removeChosen() {
    const at = link.indexOf(":");
    const why = link
      ? await amend(patchAt(["nodes", link.slice(0, at), "links", link.slice(at + 1)], null))
      : chosen
        ? await remove(chosen)
        : "";
    if (why) notice = { kind: "error", title: "Not removed.", subtitle: why };
  }

  /** Draws a link from one node to another. */
  async function connect(from: string, to: string) {
    const links = Object.keys(((document.nodes as Record<string, { links?: object }>)[from]?.links ?? {}) as object);
    const called = freeName(to, links);
    const why = await amend(patchAt(["nodes", from, "links", called], called === to ? {} : { to }));
    if (why) notice = { kind: "error", title: "Not drawn.", subtitle: why };
    else {
      chooseLink(`${from}:${called}`);
      sidePanel = 1;
    }
  }

  /** Saves the model as a picture. */
  async function picture(format: "svg" | "png") {
    const bytes = new TextEncoder().encode(text);
    const { data, error } = await api.POST("/api/v1/commands/{command}", {
      params: { path: { command: "draw" } },
      body: {
        args: ["model.yaml", "-format", format, "-out", "picture", "-findings"],
        files: { "model.yaml": btoa(Array.from(bytes, (b) => String.fromCharCode(b)).join("")) },
      },
    });
    const made = data?.files?.["picture"];
    if (error || !data || !made) {
      notice = { kind: "error", title: "Not drawn.", subtitle: error ? sentence(error) : atob(data?.err ?? "") };
      return;
    }
    const file = new Blob([Uint8Array.from(atob(made), (c) => c.charCodeAt(0))], {
      type: format === "svg" ? "image/svg+xml" : "image/png",
    });
    const link = globalThis.document.createElement("a");
    link.href = URL.createObjectURL(file);
    link.download = `${name}.${format}`;
    link.click();
    URL.revokeObjectURL(link.href);
  }

  let addingNow = false;
  async function add() {
    if (!adding || addingNow) return; // Enter reaches both the field and the dialog
    const { kind, name: called } = adding;
    addingNow = true;
    // A schedule needs to be told when it fires.
    const why = await amend(
      patchAt(
        ["nodes", called],
        kind === "schedule" ? { kind, every: "15m" } : kind === "workflow" ? { kind, do: [] } : { kind },
      ),
    );
    addingNow = false;
    if (why) adding = { kind, name: called, wrong: why };
    else {
      adding = undefined;
      choose(called, 0);
      sidePanel = 1;
    }
  }

  let timer: ReturnType<typeof setTimeout> | undefined;
  function edit(next: string) {
    if (next === text) return;
    text = next;
    clearTimeout(timer);
    timer = setTimeout(check); // once all that is done at once is done
  }

  /** Writes a remedy into the text; undo takes it back like any other edit. */
  async function apply(remedy: Finding["remedies"][number]) {
    const why = await amend(remedy.patch);
    notice = why
      ? { kind: "error", title: "Not applied.", subtitle: why }
      : { kind: "success", title: `Applied: ${remedy.say}.`, subtitle: "Undo in the text takes it back." };
  }

  /** Writes the changes of a plan into the text, one after the other. */
  async function applyAll(changes: Finding["remedies"]) {
    for (const change of changes) {
      const why = await amend(change.patch);
      if (why) {
        notice = { kind: "error", title: `Not applied: ${change.say}.`, subtitle: why };
        return;
      }
    }
    notice = { kind: "success", title: "The plan is applied.", subtitle: "Undo in the text takes it back." };
  }

  /** Puts an earlier revision's text into the editor; it is kept once it is saved. */
  function restore(old: string, number: number) {
    edit(old);
    notice = {
      kind: "success",
      title: `Revision ${number} is in the editor.`,
      subtitle: "Save to keep it; undo in the text takes it back.",
    };
  }

  async function save() {
    const { data, error } = await api.POST("/api/v1/workspaces/{workspace}/models/{name}/revisions", {
      params: { path: { workspace: currentWorkspace(), name }, header: { "If-Match": `"${base}"` } },
      body: { text },
    });
    if (error && "status" in error && error.status === 412) {
      await differ();
      return false;
    }
    if (error) {
      wrong = problems(error);
      notice = { kind: "error", title: "Not saved.", subtitle: sentence(error) };
      return false;
    }
    saved = text;
    base = revision = data.number;
    notice = { kind: "success", title: `Saved as revision ${revision}.`, subtitle: "" };
    return true;
  }

  /** Saves the model for what is kept or run of it. */
  const before = async () => !unsaved || (await save());

  /** Somebody has saved meanwhile: shows what they changed. */
  async function differ() {
    const latest = await api.GET("/api/v1/workspaces/{workspace}/models/{name}", {
      params: { path: { workspace: currentWorkspace(), name } },
    });
    if (!latest.data) {
      notice = { kind: "error", title: "Not saved.", subtitle: sentence(latest.error) };
      return;
    }
    const theirs = latest.data.text ?? "";
    const { data } = await api.POST("/api/v1/diff", { body: { before: theirs, after: text } });
    conflict = { number: latest.data.number, author: latest.data.author, text: theirs, difference: data };
  }
  async function settle(mine: boolean) {
    if (!conflict) return;
    const { number, text: theirs } = conflict;
    conflict = undefined;
    base = revision = number;
    saved = theirs;
    if (mine) await save();
    else edit(theirs);
  }

  async function run(request: Schemas["RunRequest"] = { scenario }) {
    if (!(await before())) return;
    if (!(await scenarioEditor?.keep())) {
      sidePanel = 2; // what is wrong with it is told there
      return;
    }
    const { data, error } = await api.POST("/api/v1/workspaces/{workspace}/models/{name}/runs", {
      params: { path: { workspace: currentWorkspace(), name } },
      body: request,
    });
    if (error) {
      const places = problems(error).map((t) => t.message);
      notice = { kind: "error", title: "Not run.", subtitle: [sentence(error), ...places].join(" ") };
    } else navigate("/w/:workspace/runs/:id", { params: { workspace: currentWorkspace(), id: String(data.id) } });
  }

  function keys(e: KeyboardEvent) {
    if ((e.ctrlKey || e.metaKey) && e.key === "s") {
      e.preventDefault();
      if (unsaved) save();
      return;
    }
    if ((e.target as HTMLElement).closest("input, textarea, select, .cm-editor, [role=dialog]")) return;
    const command = e.ctrlKey || e.metaKey;
    if (command && e.key.toLowerCase() === "z") {
      e.preventDefault();
      if (e.shiftKey) editor?.redo();
      else editor?.undo();
    } else if (command && e.key === "y") {
      e.preventDefault();
      editor?.redo();
    } else if (e.key === "?") shortcuts = true;
    else if (e.key === "/") {
      e.preventDefault();
      globalThis.document
        .querySelector<HTMLInputElement>(".board input[type=search], .board .bx--search-input")
        ?.focus();
    } else if (e.key === "Escape") [chosen, link] = ["", ""];
    else if (!command && ["1", "2", "3", "4", "5", "6"].includes(e.key)) bottomPanel = Number(e.key) - 1;
    else if (!command && e.key === "b") layout.whole = !layout.whole;
    else if (!command && e.key === "i") sidePanel = 1;
    else if (!command && e.key === "t") sidePanel = 0;
    else if (!command && e.key === "s") sidePanel = 2;
  }

  const elsewhere = (e: Event) =>
    !visitor.edits ||
    !!(e.target as HTMLElement | null)?.closest?.("input, textarea, select, .cm-editor, [role=dialog]");

  /** Copies the chosen node as text that can be put on any board, or into any model's text. */
  function copy(e: ClipboardEvent) {
    if (elsewhere(e) || !chosen || globalThis.getSelection()?.toString()) return;
    e.clipboardData?.setData("text/plain", copied(chosen, document));
    e.preventDefault();
    notice = {
      kind: "success",
      title: `${chosen} is copied.`,
      subtitle: "Ctrl V puts a copy on this board or another.",
    };
  }

  /** Puts copied nodes on the board, under free names, with their links to what is here. */
  async function paste(e: ClipboardEvent) {
    if (elsewhere(e)) return;
    const put = pasted(
      e.clipboardData?.getData("text/plain") ?? "",
      board.nodes.map((n) => n.name),
    );
    if (!put) return;
    e.preventDefault();
    const why = await amend({ nodes: put });
    if (why) notice = { kind: "error", title: "Not put here.", subtitle: why };
    else choose(Object.keys(put)[0], 0);
  }

  function choose(node: string, at: number) {
    [chosen, link] = [node, ""];
    line = at;
  }
  function chooseLink(id: string) {
    [chosen, link] = ["", id];
    line = board.links.find((l) => l.id === id)?.line ?? 0;
  }
</script>

<svelte:head><title>{name} · Iron Weir</title></svelte:head>
<svelte:window onkeydown={keys} oncopy={copy} onpaste={paste} />

{#if !ready}
  <div class="page">
    {#if notice}
      <InlineNotification kind={notice.kind} title={notice.title} subtitle={notice.subtitle} hideCloseButton />
    {:else}
      <Loading withOverlay={false} description="Opening the model" />
    {/if}
  </div>
{:else}
  <div
    class="bench"
    class:whole={layout.whole}
    id="main-content"
    bind:this={bench}
    style="--columns: minmax(0, {layout.across}fr) 5px minmax(0, {1 -
      layout.across}fr); --rows: minmax(0, {layout.down}fr) 5px minmax(0, {1 - layout.down}fr)"
  >
    <div class="bar" bind:this={bar}>
      <h1>{name}</h1>
      <span class="quiet">revision {revision}{unsaved ? ", changed" : ""}</span>
      {#if wrong.length}
        <span class="broken">cannot be read: {wrong.length} {wrong.length === 1 ? "place" : "places"}</span>
      {:else if checked?.check}
        <FindingCounts
          errors={checked.check.summary.errors}
          warnings={checked.check.summary.warnings}
          notes={checked.check.summary.notes}
        />
      {/if}
      <div class="actions">
        <Button
          size="small"
          kind="ghost"
          icon={Keyboard}
          iconDescription="Keyboard shortcuts"
          tooltipPosition="bottom"
          on:click={() => (shortcuts = true)}
        />
        {#if visitor.edits}
          <Button
            size="small"
            kind="ghost"
            icon={Undo}
            iconDescription="Undo"
            tooltipPosition="bottom"
            on:click={() => editor?.undo()}
          />
          <Button
            size="small"
            kind="ghost"
            icon={Redo}
            iconDescription="Redo"
            tooltipPosition="bottom"
            on:click={() => editor?.redo()}
          />
          <Button size="small" kind="tertiary" icon={Save} disabled={!unsaved} on:click={save}>Save</Button>
        {/if}
        {#if visitor.edits}<Button
            size="small"
            kind="tertiary"
            icon={Activity}
            disabled={wrong.length > 0}
            on:click={() => (rehearsing = true)}>Rehearse</Button
          >{/if}
        {#if scenarios.length}
          <Select hideLabel labelText="Scenario" size="sm" inline bind:selected={scenario}>
            {#each scenarios as s (s.name)}<SelectItem value={s.name} text={s.name} />{/each}
          </Select>
          {#if visitor.edits}
            <Button size="small" icon={Play} disabled={wrong.length > 0} on:click={() => run()}>Run</Button>
            <Button
              size="small"
              kind="ghost"
              icon={SettingsAdjust}
              iconDescription="Variants, sweeps, replications"
              tooltipPosition="bottom"
              tooltipAlignment="end"
              disabled={wrong.length > 0}
              on:click={() => (options = true)}
            />
          {/if}
        {:else if visitor.edits}
          <Button size="small" kind="tertiary" on:click={() => (sidePanel = 2)}>Create a scenario</Button>
        {/if}
      </div>
    </div>
    {#if notice}
      <InlineNotification
        lowContrast
        kind={notice.kind}
        title={plain(notice.title)}
        subtitle={plain(notice.subtitle)}
        on:close={() => (notice = undefined)}
        style="max-width: none; margin: 0"
        timeout={notice.kind === "success" && !notice.stays ? 4000 : 0}
      />
    {/if}
    <div class="drawn">
      <Board
        {board}
        {findings}
        {chosen}
        {link}
        {catalogue}
        edits={visitor.edits}
        pinsKey="ironweir-pins-{currentWorkspace()}-{name}"
        onchoose={choose}
        onlink={chooseLink}
        onadd={(kind) =>
          (adding = {
            kind,
            name: freeName(
              kind,
              board.nodes.map((n) => n.name),
            ),
            wrong: "",
          })}
        onconnect={connect}
        onpicture={picture}
        onremove={removeChosen}
        highlighted={bottomPanel === 1 || bottomPanel === 2 ? highlighted : undefined}
        highlightedLinks={bottomPanel === 1 || bottomPanel === 2 ? highlightedLinks : undefined}
        bind:whole={layout.whole}
      />
    </div>
    <Splitter kind="rows" label="How high the board is" bind:share={layout.down} usual={usual.down} within={parts} />
    <div class="found">
      <ContentSwitcher size="sm" bind:selectedIndex={bottomPanel} aria-label="Bottom panel"
        ><Switch text="Findings" /><Switch text="Try a message" /><Switch text="Guarantees" /><Switch
          text="Availability"
        /><Switch text="Schedules" /><Switch text="History" /></ContentSwitcher
      >
      <div class="inner">
        {#if bottomPanel === 0}
          {#if (checked?.check?.summary.errors ?? 0) > 0 && visitor.edits && wrong.length === 0}
            <Plan {text} onapply={applyAll} />
          {/if}
          <Findings {findings} {wrong} empty={board.nodes.length === 0} onchoose={choose} onapply={apply} />
        {:else if bottomPanel === 2}
          <Guarantees
            {text}
            {board}
            {chosen}
            onlit={(nodes, links) => ((highlighted = nodes), (highlightedLinks = links))}
            onchoose={(node) => choose(node, board.nodes.find((n) => n.name === node)?.line ?? 0)}
          />
        {:else if bottomPanel === 3}
          <Availability
            check={checked?.check}
            {chosen}
            edits={visitor.edits && wrong.length === 0}
            onchoose={(node) => choose(node, board.nodes.find((n) => n.name === node)?.line ?? 0)}
            onapply={apply}
          />
        {:else if bottomPanel === 4}
          <Schedules {text} onchoose={(node) => choose(node, board.nodes.find((n) => n.name === node)?.line ?? 0)} />
        {:else if bottomPanel === 5}
          <History {name} {revision} {text} onrestore={restore} />
        {:else}
          <TryMessage
            {text}
            {board}
            {chosen}
            onlit={(nodes, links) => ((highlighted = nodes), (highlightedLinks = links))}
          />
        {/if}
      </div>
    </div>
    <Splitter
      kind="columns"
      label="How wide the board is"
      bind:share={layout.across}
      usual={usual.across}
      within={parts}
    />
    <div class="text">
      <ContentSwitcher size="sm" bind:selectedIndex={sidePanel} aria-label="Side panel"
        ><Switch text="Model" /><Switch text="Inspector" /><Switch text="Scenario" /></ContentSwitcher
      >
      <div class="inner" hidden={sidePanel !== 0}>
        <TextEditor
          bind:this={editor}
          {text}
          {marks}
          {line}
          onedit={edit}
          label="The model's text"
          offers={(before) => (catalogue ? offersAt(before, catalogue, document) : [])}
        />
      </div>
      {#if sidePanel === 1}
        <div class="inner">
          <Inspector
            {document}
            {board}
            {catalogue}
            node={chosen}
            {link}
            edits={visitor.edits && wrong.length === 0}
            onamend={amend}
            onrename={rename}
            onremove={remove}
            onchoose={(n) => choose(n, 0)}
            onlink={chooseLink}
          />
        </div>
      {/if}
      <div class="inner" hidden={sidePanel !== 2}>
        <ScenarioEditor
          bind:this={scenarioEditor}
          model={name}
          {board}
          {before}
          entry={board.nodes.find((n) => n.role === "holds" || n.role === "starts")?.name ?? ""}
          bind:scenarios
          bind:chosen={scenario}
        />
      </div>
    </div>
  </div>
{/if}

<Modal
  open={adding !== undefined}
  size="xs"
  modalHeading="Add {/^[aeiou]/.test(adding?.kind ?? '') ? 'an' : 'a'} {adding?.kind ?? 'node'}"
  primaryButtonText="Add node"
  secondaryButtonText="Cancel"
  primaryButtonDisabled={!/^[a-z][a-z0-9-]{0,62}$/.test(adding?.name ?? "")}
  selectorPrimaryFocus="#node-name"
  on:click:button--secondary={() => (adding = undefined)}
  on:close={() => (adding = undefined)}
  on:submit={add}
>
  {#if adding}
    <p class="quiet">{catalogue?.kinds.find((k) => k.kind === adding?.kind)?.about}</p>
    <TextInput
      id="node-name"
      labelText="Name"
      helperText="Lower-case letters, digits and hyphens, a letter first."
      bind:value={adding.name}
      invalid={adding.wrong !== ""}
      invalidText={adding.wrong}
      on:focus={(e) => (e.target as HTMLInputElement | null)?.select()}
    />
  {/if}
</Modal>

<Rehearse bind:open={rehearsing} model={name} {scenarios} {before} />
<RunOptions bind:open={options} model={name} {scenario} onrun={run} />

<Shortcuts bind:open={shortcuts} />

<Modal
  open={conflict !== undefined}
  size="lg"
  hasScrollingContent
  modalHeading="{conflict?.author} has saved revision {conflict?.number} meanwhile"
  primaryButtonText="Save mine on top"
  secondaryButtons={[{ text: "Keep editing" }, { text: "Take theirs" }]}
  on:click:button--secondary={({ detail }) => (detail.text === "Take theirs" ? settle(false) : (conflict = undefined))}
  on:close={() => (conflict = undefined)}
  on:submit={() => settle(true)}
>
  {#if conflict}
    <p>What saving yours on top would change of theirs:</p>
    {#if conflict.difference}
      <Changes difference={conflict.difference} />
      {#if alike}<p class="wrong">
          Only comments or layout differ. Saving yours replaces theirs, comments included.
        </p>{/if}
    {:else}<p class="quiet">One of the two texts is not a valid model; they differ.</p>{/if}
  {/if}
</Modal>

<style>
  .bench {
    display: grid;
    height: calc(100vh - 3rem);
    grid-template: auto auto var(--rows) / var(--columns);
  }
  .bar {
    grid-column: 1 / -1;
    display: flex;
    align-items: center;
    gap: 0.75rem;
    padding: 0.5rem 1rem;
    border-bottom: 1px solid var(--cds-ui-03);
  }
  .bar h1 {
    font-size: 1.125rem;
    font-weight: 600;
  }
  .broken {
    color: var(--cds-support-01);
  }
  .actions {
    margin-left: auto;
    display: flex;
    align-items: center;
    gap: 0.5rem;
  }
  .bench > :global(.bx--inline-notification) {
    grid-column: 1 / -1;
  }
  .drawn {
    grid-column: 1;
    grid-row: 3;
    min-height: 0;
  }
  .bench > :global(.rows) {
    grid-column: 1;
    grid-row: 4;
  }
  .bench > :global(.columns) {
    grid-column: 2;
    grid-row: 3 / 6;
    width: auto;
  }
  .found {
    grid-column: 1;
    grid-row: 5;
    min-height: 0;
    display: flex;
    flex-direction: column;
  }
  .whole {
    grid-template: auto auto minmax(0, 1fr) / minmax(0, 1fr);
  }
  .whole > .found,
  .whole > .text,
  .whole > :global([role="separator"]) {
    display: none;
  }
  .found > :global(.bx--content-switcher),
  .text > :global(.bx--content-switcher) {
    width: calc(100% - 1.5rem);
  }
  .found > :global(.bx--content-switcher) {
    max-width: 46rem;
    flex: none;
    margin: 0.375rem 0.75rem;
  }
  .inner {
    flex: 1;
    min-height: 0;
    overflow: auto;
  }
  .text {
    grid-column: 3;
    grid-row: 3 / 6;
    min-height: 0;
    display: flex;
    flex-direction: column;
  }
  .text > :global(.bx--content-switcher) {
    max-width: 22rem;
    flex: none;
    margin: 0.375rem 0.75rem;
  }
  .text > .inner {
    overflow: hidden;
  }
  @media (max-width: 800px) {
    .bench {
      grid-template: auto auto 45vh 40vh 60vh / minmax(0, 1fr);
      overflow: auto;
    }
    .bar,
    .actions {
      flex-wrap: wrap;
    }
    .actions {
      margin-left: 0;
    }
    .bench > :global([role="separator"]) {
      display: none;
    }
    .found {
      grid-row: 4;
      height: 40vh;
    }
    .text {
      grid-column: 1;
      grid-row: 5;
    }
  }
</style>
