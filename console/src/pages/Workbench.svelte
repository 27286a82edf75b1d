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
  import { tick, untrack } from "svelte";
  import Activity from "carbon-icons-svelte/lib/Activity.svelte";
  import Keyboard from "carbon-icons-svelte/lib/Keyboard.svelte";
  import Play from "carbon-icons-svelte/lib/Play.svelte";
  import Redo from "carbon-icons-svelte/lib/Redo.svelte";
  import Save from "carbon-icons-svelte/lib/Save.svelte";
  import SettingsAdjust from "carbon-icons-svelte/lib/SettingsAdjust.svelte";
  import Undo from "carbon-icons-svelte/lib/Undo.svelte";
  import { saidOf, say } from "../lib/address";
  import { api, sentence, problems, type Schemas } from "../lib/api";
  import { currentWorkspace, visitor } from "../lib/workspace.svelte";
  import { plain } from "../lib/code";
  import { offersAt } from "../lib/complete";
  import { letters } from "../lib/letters.svelte";
  import { palette } from "../lib/palette.svelte";
  import { ModelSession } from "../lib/model-session.svelte";
  import { isName } from "../lib/names";
  import { badges, boardMarks } from "../lib/observed";
  import { copied, freeName, pasted, nodeAt } from "../lib/written";
  import Board from "../components/Board.svelte";
  import type { MenuAt, MenuItem } from "../components/BoardMenu.svelte";
  import Conflicting from "../components/Conflicting.svelte";
  import FindingCounts from "../components/FindingCounts.svelte";
  import Findings from "../components/Findings.svelte";
  import Inspector from "../components/Inspector.svelte";
  import Schedules from "../components/Schedules.svelte";
  import Availability from "../components/Availability.svelte";
  import Observed from "../components/Observed.svelte";
  import Plan from "../components/Plan.svelte";
  import FirstVisit from "../components/FirstVisit.svelte";
  import { demoModel, firstVisit } from "../lib/first-visit.svelte";
  import Guarantees from "../components/Guarantees.svelte";
  import History from "../components/History.svelte";
  import Rehearse from "../components/Rehearse.svelte";
  import RunOptions from "../components/RunOptions.svelte";
  import Shortcuts from "../components/Shortcuts.svelte";
  import Splitter from "../components/Splitter.svelte";
  import ScenarioEditor from "../components/ScenarioEditor.svelte";
  import Later from "../components/Later.svelte";
  import TextEditor from "../components/TextEditor.svelte";
  import type { Movement } from "../lib/motion";
  import type { Lit } from "../lib/player.svelte";
  import ShareLink from "../components/ShareLink.svelte";
  import TryMessage from "../components/TryMessage.svelte";
  import WhatNext from "../components/WhatNext.svelte";
  import { connection } from "../lib/connection.svelte";
  import { groupsBy, usualGrouping } from "../lib/groups";
  import { layout as layOut } from "../lib/layout";
  import { navigate, route } from "../router";

  const name = route.getParams("/w/:workspace/models/:name").name;
  const session = new ModelSession(name);
  const { amend, before } = session;
  const board = $derived(session.board);
  const findings = $derived(session.findings);
  const wrong = $derived(session.wrong);
  const text = $derived(session.text);

  let scenarios = $state.raw<Schemas["Scenario"][]>([]);
  let scenario = $state("");
  let chosen = $state(saidOf("node"));
  let link = $state(saidOf("link")); // the chosen link, where it is a link
  let several = $state.raw<string[]>([]); // the nodes that are chosen together
  let catalogue = $state.raw<Schemas["Catalogue"] | undefined>();
  let editor = $state<ReturnType<typeof TextEditor>>();
  let drawn = $state<ReturnType<typeof Board>>();
  let adding = $state<{ kind: string; name: string; wrong: string } | undefined>();
  let shortcuts = $state(false);
  let options = $state(false);
  let next = $state(false);
  let rehearsing = $state(false);
  let line = $state(0);
  let bottomPanel = $state(0); // an index of panels
  let scenarioEditor = $state<ReturnType<typeof ScenarioEditor>>();
  let sidePanel = $state(0); // 0: the model's text, 1: the inspector, 2: the scenario's text
  let lit = $state.raw<Lit>({ nodes: new Map(), links: new Set() });
  let movements = $state.raw<Movement[]>([]);

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
  session.load().then((list) => {
    scenarios = list;
    scenario = list[0]?.name ?? "";
  });
  api.GET("/api/v1/catalogue").then(({ data }) => (catalogue = data));
  // The board is laid out while the page is still being drawn.
  let laidOut = false;
  $effect.pre(() => {
    if (laidOut || board.nodes.length === 0) return;
    laidOut = true;
    void layOut(board, groupsBy(board, usualGrouping(board)));
  });
  // A model that is edited keeps its undo.
  $effect(() => connection.resumeBy(() => (session.ready ? void session.check() : location.reload())));
  $effect(() => session.keep());
  $effect(() => {
    if (link && board.links.length && !board.links.some((l) => l.id === link)) link = "";
    if (chosen && board.nodes.length && !board.nodes.some((n) => n.name === chosen)) chosen = "";
    if (several.some((name) => !board.nodes.some((n) => n.name === name))) several = [];
  });

  const fail = (title: string, why: string) => (session.notice = { kind: "error", title, subtitle: why });
  const rename = async (from: string, to: string) => {
    const why = await session.rename(from, to);
    if (!why) chosen = to;
    return why;
  };

  /** Removes what is chosen on the board. */
  async function removeChosen() {
    const why = several.length
      ? await session.removeAll(several)
      : link
        ? await session.removeLink(link)
        : chosen
          ? await session.remove(chosen)
          : "";
    if (why) fail("Not removed.", why);
    else several = [];
  }

  /** Draws a link from one node to another. */
  async function connect(from: string, to: string) {
    const { id, why } = await session.connect(from, to);
    if (why) fail("Not drawn.", why);
    else {
      chooseLink(id);
      sidePanel = 1;
    }
  }

  /** Saves the model as a picture. */
  async function picture(format: "svg" | "png") {
    const { file, why } = await session.picture(format);
    if (!file) {
      fail("Not drawn.", why);
      return;
    }
    const link = document.createElement("a");
    link.href = URL.createObjectURL(file);
    link.download = `${name}.${format}`;
    link.click();
    URL.revokeObjectURL(link.href);
  }

  /** Asks for the name of a node to add. */
  function ask(kind: string) {
    const taken = board.nodes.map((n) => n.name);
    adding = { kind, name: freeName(kind, taken), wrong: "" };
  }

  let addingNow = false;
  async function add() {
    if (!adding || addingNow) return; // Enter reaches both the field and the dialog
    const { kind, name: called } = adding;
    addingNow = true;
    const why = await session.add(kind, called);
    addingNow = false;
    if (why) adding = { kind, name: called, wrong: why };
    else {
      adding = undefined;
      choose(called, 0);
      sidePanel = 1;
    }
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
      fail("Not run.", [sentence(error), ...places].join(" "));
    } else navigate("/w/:workspace/runs/:id", { params: { workspace: currentWorkspace(), id: String(data.id) } });
  }

  // A move on the board is undone before the edits that were made before it.
  const undo = () => session.places.undo(session.text) || editor?.undo();
  const redo = () => session.places.redo(session.text) || editor?.redo();

  function keys(e: KeyboardEvent) {
    if ((e.ctrlKey || e.metaKey) && e.key === "s") {
      e.preventDefault();
      if (session.unsaved) session.save();
      return;
    }
    const at = e.target as HTMLElement;
    if (e.key === "Escape" && at.matches(".text input, .text select")) at.blur(); // and letters are shortcuts again
    if (at.closest("input, textarea, select, .cm-editor, [role=dialog]")) return;
    const command = e.ctrlKey || e.metaKey;
    if (command && e.key.toLowerCase() === "z") {
      e.preventDefault();
      if (e.shiftKey) redo();
      else undo();
    } else if (command && e.key === "y") {
      e.preventDefault();
      redo();
    } else if (e.key === "Escape") [chosen, link, several] = ["", "", []];
    else if (e.key === "F2" && chosen) renameChosen();
    else if (command || !letters.on) return;
    else if (e.key === "?") shortcuts = true;
    else if (e.key === "/") {
      e.preventDefault();
      document.querySelector<HTMLInputElement>(".board input[type=search], .board .bx--search-input")?.focus();
    } else if (Number(e.key) >= 1 && Number(e.key) <= panels.length) bottomPanel = Number(e.key) - 1;
    else if (e.key === "a") {
      e.preventDefault(); // it must not be written into the field that opens
      drawn?.add();
    } else if (e.key === "c" && chosen && visitor.edits) {
      e.preventDefault();
      connectChosen();
    } else if (e.key === "b") layout.whole = !layout.whole;
    else if (e.key === "i") sidePanel = 1;
    else if (e.key === "t") sidePanel = 0;
    else if (e.key === "s") sidePanel = 2;
  }

  async function editChosen() {
    sidePanel = 1;
    await tick();
    document.querySelector<HTMLInputElement>("#inspected-name")?.focus();
  }
  async function editField(node: string, field: string) {
    choose(node, board.nodes.find((n) => n.name === node)?.line ?? 0);
    await editChosen();
    const at = document.querySelector<HTMLElement>(`[data-field="${field}"] input`);
    at?.closest("details")?.setAttribute("open", "");
    at?.focus();
  }
  async function renameChosen() {
    await editChosen();
    document.querySelector<HTMLInputElement>("#inspected-name")?.select();
  }

  /** Draws a link from the chosen node to one that is picked by name. */
  function connectChosen() {
    const from = chosen;
    palette.ask(
      `Draw a link from ${from} to`,
      board.nodes.map((n) => ({ group: "Nodes", text: n.name, hint: n.kind, run: () => connect(from, n.name) })),
    );
  }

  /** Adds a node from the board, and a link to it where one was dropped. */
  async function place(kind: string, called: string, from: string) {
    const why = await session.add(kind, called, from);
    if (!why) {
      choose(called, 0);
      sidePanel = 1;
    }
    return why;
  }

  // A link to this page opens what is chosen.
  $effect(() => say({ node: chosen, link }));

  // What the palette offers here.
  // Who looks at the model is known while the page is in front.
  $effect(() => {
    const look = () => document.visibilityState === "visible" && untrack(() => session.look());
    const timer = setInterval(look, 5000);
    if (session.ready) look();
    return () => clearInterval(timer);
  });
  /** What can be done with a node; in its menu, and in the palette while it is chosen. */
  const nodeActions = (name: string): MenuItem[] => {
    const at = () => choose(name, board.nodes.find((n) => n.name === name)?.line ?? 0);
    return [
      { text: `Inspect ${name}`, hint: "i", run: () => (at(), (sidePanel = 1)) },
      { text: `Try a message at ${name}`, hint: "2", run: () => (at(), (bottomPanel = 1)) },
      { text: `Guarantees of ${name}`, hint: "3", run: () => (at(), (bottomPanel = 2)) },
      ...(visitor.edits
        ? [
            { text: `Draw a link from ${name}`, hint: "c", run: () => (at(), connectChosen()) },
            { text: `Rename ${name}`, hint: "F2", run: () => (at(), renameChosen()) },
            { text: `Copy ${name}`, hint: "Ctrl C", run: () => copyNode(name) },
            { text: `Remove ${name}`, hint: "Delete", danger: true, run: () => (at(), removeChosen()) },
          ]
        : []),
    ];
  };
  /** What can be done with a link. */
  const linkActions = (id: string): MenuItem[] => [
    { text: `Inspect ${id}`, hint: "i", run: () => (chooseLink(id), (sidePanel = 1)) },
    ...(visitor.edits
      ? [{ text: `Remove ${id}`, hint: "Delete", danger: true, run: () => (chooseLink(id), removeChosen()) }]
      : []),
  ];
  /** What can be done with the board. */
  const boardActions = (): MenuItem[] => [
    ...(visitor.edits ? [{ text: "Add a node", hint: "a", run: () => drawn?.add() }] : []),
    { text: "Full-screen board", hint: "b", run: () => (layout.whole = !layout.whole) },
    { text: "Lay the board out anew", run: () => drawn?.tidy() },
    { text: "Save the board as SVG", run: () => picture("svg") },
    { text: "Save the board as PNG", run: () => picture("png") },
  ];
  /** What can be done with several nodes, beside what their toolbar offers. */
  const severalActions = (): MenuItem[] =>
    several.length ? [{ text: `Remove ${several.length} nodes`, hint: "Delete", danger: true, run: removeChosen }] : [];
  const menu = ({ node, link }: MenuAt) =>
    node && several.includes(node)
      ? severalActions()
      : node
        ? nodeActions(node)
        : link
          ? linkActions(link)
          : [...severalActions(), ...boardActions()];

  async function copyNode(name: string) {
    if (!navigator.clipboard) {
      fail("Not copied.", "This browser lets pages write to the clipboard by HTTPS alone: choose it and press Ctrl C.");
      return;
    }
    await navigator.clipboard.writeText(copied(name, session.document));
    noteCopied(name);
  }
  const noteCopied = (name: string) =>
    (session.notice = {
      kind: "success",
      title: `${name} is copied.`,
      subtitle: "Ctrl V puts a copy on this board or another.",
    });
  const scenarioText = $derived(scenarios.find((s) => s.name === scenario)?.text ?? "");
  const panels = ["Findings", "Try a message", "Guarantees", "Availability", "Schedules", "History", "Observed"];
  let observed = $state.raw<Schemas["ObservationView"] | undefined>(); // while it is shown
  const seen = $derived(observed && boardMarks(observed, board));
  const onBoard = $derived(bottomPanel === 1 || bottomPanel === 2);
  $effect(() => {
    const does = (text: string, run: () => void, hint = "", also = "") => ({
      group: "Commands",
      text,
      run,
      hint,
      also,
    });
    palette.page = [
      ...board.nodes.map((n) => ({ group: "Nodes", text: n.name, hint: n.kind, run: () => choose(n.name, n.line) })),
      ...(visitor.edits
        ? [
            does("Save", () => session.save(), "Ctrl S"),
            does("Undo", undo, "Ctrl Z"),
            does("Redo", redo, "Ctrl Shift Z"),
            does("Run the scenario", () => run(), "", "simulate"),
            does("Rehearse", () => (rehearsing = true), "", "live break send"),
            ...(catalogue?.kinds ?? []).map((k) =>
              does(`Add a node: ${k.kind}`, () => ask(k.kind), "", `new ${k.about}`),
            ),
          ]
        : []),
      ...[
        ...(several.length ? severalActions() : chosen ? nodeActions(chosen) : link ? linkActions(link) : []),
        ...boardActions(),
      ].map((a) => does(a.text, a.run, a.hint, "menu")),
      does("What next?", () => (next = true), "", "advice best change weakest guarantee guess"),
      ...panels.map((text, i) => does(text, () => (bottomPanel = i), String(i + 1), "panel")),
      does("The model's text", () => (sidePanel = 0), "t"),
      does("Inspector", () => (sidePanel = 1), "i", "fields"),
      does("Scenario", () => (sidePanel = 2), "s", "traffic incidents"),
      does("Keyboard shortcuts", () => (shortcuts = true), "?"),
      ...findings
        .filter((f) => !f.accepted)
        .map((f) => ({
          group: "Findings",
          text: `${f.code} ${f.title}: ${f.nodes[0] ?? ""}`,
          also: plain(f.message),
          run: () => ((bottomPanel = 0), choose(f.nodes[0] ?? "", f.position.line)),
        })),
    ];
    return () => (palette.page = []);
  });

  const elsewhere = (e: Event) =>
    !visitor.edits ||
    !!(e.target as HTMLElement | null)?.closest?.("input, textarea, select, .cm-editor, [role=dialog]");

  /** Copies the chosen node as text that can be put on any board, or into any model's text. */
  function copy(e: ClipboardEvent) {
    if (elsewhere(e) || !chosen || globalThis.getSelection()?.toString()) return;
    e.clipboardData?.setData("text/plain", copied(chosen, session.document));
    e.preventDefault();
    noteCopied(chosen);
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
    if (why) fail("Not put here.", why);
    else choose(Object.keys(put)[0], 0);
  }

  function choose(node: string, at: number) {
    [chosen, link, several] = [node, "", []];
    line = at;
  }
  // The steps of a first visit are done in the page itself.
  const loops = $derived(findings.filter((f) => f.code === "IW101" && !f.accepted));
  $effect(() => {
    if (name !== demoModel || !session.checked) return;
    if (loops.some((f) => f.nodes.includes(chosen))) firstVisit.did(1);
    if (loops.length === 0) firstVisit.did(2);
  });
  function chooseLink(id: string) {
    [chosen, link, several] = ["", id, []];
    line = board.links.find((l) => l.id === id)?.line ?? 0;
  }
</script>

<svelte:head><title>{name} · Iron Weir</title></svelte:head>
<svelte:window onkeydown={keys} oncopy={copy} onpaste={paste} />

{#if !session.ready}
  <div class="page">
    {#if session.notice}
      {@const { kind, title, subtitle } = session.notice}
      <InlineNotification {kind} {title} {subtitle} hideCloseButton />
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
      <span class="quiet">revision {session.revision}{session.unsaved ? ", changed" : ""}</span>
      {#if session.viewers.length}
        <span class="quiet viewers" role="status" aria-label="Also here">also here: {session.viewers.join(", ")}</span>
      {/if}
      {#if wrong.length}
        <span class="broken">cannot be read: {wrong.length} {wrong.length === 1 ? "place" : "places"}</span>
      {:else if session.checked?.check}
        {@const { errors, warnings, notes } = session.checked.check.summary}
        <FindingCounts {errors} {warnings} {notes} empty={board.nodes.length === 0} />
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
            on:click={undo}
          />
          <Button
            size="small"
            kind="ghost"
            icon={Redo}
            iconDescription="Redo"
            tooltipPosition="bottom"
            on:click={redo}
          />
          <Button size="small" kind="tertiary" icon={Save} disabled={!session.unsaved} on:click={() => session.save()}
            >Save</Button
          >
        {/if}
        {#if visitor.edits && session.revision > 0}
          <ShareLink
            what="revision"
            id={name}
            revision={session.revision}
            about="{name}, revision {session.revision}{session.unsaved ? ' (as it was saved)' : ''}"
            quiet
          />
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
              iconDescription="Variants, sweeps, guesses, replications"
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
    {#if session.notice}
      {@const { kind, title, subtitle, stays } = session.notice}
      <InlineNotification
        lowContrast
        {kind}
        title={plain(title)}
        subtitle={plain(subtitle)}
        on:close={() => (session.notice = undefined)}
        style="max-width: none; margin: 0"
        timeout={kind === "success" && !stays ? 4000 : 0}
      />
    {/if}
    <div class="drawn">
      {#if name === demoModel && visitor.edits}<FirstVisit />{/if}
      <Board
        bind:this={drawn}
        {board}
        {findings}
        {chosen}
        {link}
        {catalogue}
        edits={visitor.edits}
        pins={session.places.all}
        document={session.document}
        bind:several
        onpin={(put, moved) => (moved ? session.places.move(put, session.text) : session.places.put(put))}
        ontidy={() => session.places.tidy(session.text)}
        onamend={visitor.edits ? session.amend : undefined}
        onchoose={choose}
        onlink={chooseLink}
        onadd={ask}
        onedit={editChosen}
        onplace={place}
        onconnect={connect}
        onpicture={picture}
        onremove={removeChosen}
        {menu}
        highlighted={onBoard ? lit.nodes : seen?.nodes}
        highlightedLinks={onBoard ? lit.links : seen?.links}
        states={onBoard && lit.nodes.size > 0 ? lit.states : undefined}
        badges={observed && badges(observed)}
        movements={onBoard ? movements : undefined}
        bind:whole={layout.whole}
      />
    </div>
    <Splitter kind="rows" label="How high the board is" bind:share={layout.down} usual={usual.down} within={parts} />
    <div class="found">
      <ContentSwitcher size="sm" bind:selectedIndex={bottomPanel} aria-label="Bottom panel"
        >{#each panels as text (text)}<Switch {text} />{/each}</ContentSwitcher
      >
      <div class="inner">
        {#if bottomPanel === 0}
          <Findings
            {findings}
            {wrong}
            empty={board.nodes.length === 0}
            edits={visitor.edits}
            document={session.document}
            onchoose={choose}
            onapply={(remedies) => session.apply(remedies)}
            onrate={(node) => editField(node, "rate")}
          >
            {#if board.nodes.length > 0}
              {#if (session.checked?.check?.summary.errors ?? 0) > 0 && visitor.edits}
                <Plan {text} onapply={(changes) => session.apply(changes)} />
              {/if}
              <Button size="small" kind="ghost" on:click={() => (next = true)}>What next?</Button>
            {/if}
          </Findings>
        {:else if bottomPanel === 2}
          <Guarantees
            {text}
            {board}
            {chosen}
            model={name}
            scenario={scenarioText}
            edits={visitor.edits}
            onlit={(now) => (lit = now)}
            onmove={(now) => (movements = now)}
            onchoose={(node) => choose(node, board.nodes.find((n) => n.name === node)?.line ?? 0)}
          />
        {:else if bottomPanel === 3}
          <Availability
            check={session.checked?.check}
            {chosen}
            edits={visitor.edits && wrong.length === 0}
            onchoose={(node) => choose(node, board.nodes.find((n) => n.name === node)?.line ?? 0)}
            onapply={(remedy) => session.apply([remedy])}
          />
        {:else if bottomPanel === 4}
          <Schedules {text} onchoose={(node) => choose(node, board.nodes.find((n) => n.name === node)?.line ?? 0)} />
        {:else if bottomPanel === 5}
          <History
            {name}
            revision={session.revision}
            {text}
            onrestore={(old, number) => session.restore(old, number)}
          />
        {:else if bottomPanel === 6}
          <Observed
            model={name}
            revision={session.revision}
            edits={visitor.edits}
            onseen={(now) => (observed = now)}
            onadopt={async (patch) => {
              const why = await amend(patch);
              if (why) fail("Not changed.", why);
            }}
            onchoose={(node) => choose(node, board.nodes.find((n) => n.name === node)?.line ?? 0)}
          />
        {:else}
          <TryMessage {text} {board} {chosen} onlit={(now) => (lit = now)} onmove={(now) => (movements = now)} />
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
          onedit={(next) => session.edit(next)}
          label="The model's text"
          oncursor={(at) => {
            const name = nodeAt(text, board.nodes, at);
            if (name && name !== chosen) [chosen, link, several] = [name, "", []];
          }}
          offers={(before) => (catalogue ? offersAt(before, catalogue, session.document) : [])}
        />
      </div>
      {#if sidePanel === 1}
        <div class="inner">
          <Inspector
            document={session.document}
            {board}
            {catalogue}
            node={chosen}
            {link}
            edits={visitor.edits && wrong.length === 0}
            onamend={amend}
            onrename={rename}
            onremove={session.remove}
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

<Later wanted={adding !== undefined}>
  <Modal
    open={adding !== undefined}
    size="xs"
    modalHeading="Add {/^[aeiou]/.test(adding?.kind ?? '') ? 'an' : 'a'} {adding?.kind ?? 'node'}"
    primaryButtonText="Add node"
    secondaryButtonText="Cancel"
    primaryButtonDisabled={!isName(adding?.name ?? "")}
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
</Later>

<Later wanted={rehearsing}>
  <Rehearse bind:open={rehearsing} model={name} {scenarios} {before} />
</Later>
<Later wanted={options}>
  <RunOptions bind:open={options} model={name} {scenario} onrun={run} />
</Later>

<Later wanted={shortcuts}>
  <Shortcuts bind:open={shortcuts} />
</Later>

<Later wanted={next}>
  <WhatNext
    bind:open={next}
    {text}
    {findings}
    guesses={session.checked?.check?.guesses ?? []}
    scenario={scenarioText}
    edits={visitor.edits}
    onapply={(remedies) => session.apply(remedies)}
    onpair={(from) => ((bottomPanel = 2), choose(from, board.nodes.find((n) => n.name === from)?.line ?? 0))}
    onfinding={(f) => ((bottomPanel = 0), choose(f.nodes[0] ?? "", f.position.line))}
  />
</Later>

<Later wanted={session.conflict !== undefined}>
  <Modal
    open={session.conflict !== undefined}
    size="lg"
    hasScrollingContent
    modalHeading="{session.conflict?.author} has saved revision {session.conflict?.number} meanwhile"
    primaryButtonText="Merge both"
    primaryButtonDisabled={!session.conflict?.merged}
    secondaryButtons={[{ text: "Take theirs" }, { text: "Save mine on top" }]}
    on:click:button--secondary={({ detail }) => session.settle(detail.text === "Take theirs" ? "theirs" : "mine")}
    on:close={() => (session.conflict = undefined)}
    on:submit={() => session.settle("merge")}
  >
    {#if session.conflict}<Conflicting conflict={session.conflict} mine={session.text} alike={session.alike} />{/if}
  </Modal>
</Later>

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
    position: relative;
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
    max-width: 56rem;
    flex: none;
    margin: 0.375rem 0.75rem;
  }
  .found > :global(.bx--content-switcher .bx--content-switcher-btn) {
    padding: 0 0.5rem;
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
