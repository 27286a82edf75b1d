<script lang="ts">
  import {
    Button,
    ContentSwitcher,
    InlineNotification,
    Loading,
    Modal,
    Switch,
    TextInput,
  } from "carbon-components-svelte";
  import Save from "carbon-icons-svelte/lib/Save.svelte";
  import StopFilledAlt from "carbon-icons-svelte/lib/StopFilledAlt.svelte";
  import { onDestroy } from "svelte";
  import { api, sentence, type Schemas } from "../lib/api";
  import { currentWorkspace, visitor } from "../lib/workspace.svelte";
  import { badge, type State } from "../lib/live";
  import { movementsBetween, type Movement } from "../lib/motion";
  import { count } from "../lib/format";
  import FirstVisit from "../components/FirstVisit.svelte";
  import { demoModel, firstVisit } from "../lib/first-visit.svelte";
  import ShareLink from "../components/ShareLink.svelte";
  import Board from "../components/Board.svelte";
  import LiveActs from "../components/LiveActs.svelte";
  import LiveNode from "../components/LiveNode.svelte";
  import LiveObserved from "../components/LiveObserved.svelte";
  import LiveSend from "../components/LiveSend.svelte";
  import LiveTime from "../components/LiveTime.svelte";
  import { navigate, p, route } from "../router";
  import { isName } from "../lib/names";
  import { Places } from "../lib/places.svelte";
  import { boardMarks } from "../lib/observed";

  const id = route.getParams("/w/:workspace/rehearsals/:id").id;
  const path = { workspace: currentWorkspace(), id };

  let rehearsal = $state.raw<Schemas["Rehearsal"] | undefined>();
  let model = $state.raw<Schemas["RehearsedModel"] | undefined>();
  let stands = $state.raw<State | undefined>(); // how it stands
  let before = $state.raw<State | undefined>(); // and how it stood a moment before
  let places = $state.raw<Places | undefined>();
  let movements = $state.raw<Movement[]>([]);
  let deepest = $state.raw<Record<string, number>>({});
  let chosen = $state("");
  let link = $state("");
  let trouble = $state("");
  let ended = $state(false);
  let side = $state(0); // 0: send, 1: the chosen node or link, 2: who did what, 3: observed
  let keeping = $state<{ name: string; wrong: string; left: string[] } | undefined>();

  async function load() {
    const [one, text] = await Promise.all([
      api.GET("/api/v1/workspaces/{workspace}/rehearsals/{id}", { params: { path } }),
      api.GET("/api/v1/workspaces/{workspace}/rehearsals/{id}/model", { params: { path } }),
    ]);
    if (one.error || text.error) {
      trouble = sentence(one.error ?? text.error);
      return;
    }
    if (!visitor.user?.share) {
      places = new Places(currentWorkspace(), one.data.model, visitor.edits);
      await places.load();
    }
    [rehearsal, model, stands] = [one.data, text.data, one.data.state ?? undefined];
    watch();
  }
  load();

  let source: EventSource | undefined;
  function watch() {
    source = new EventSource(`/api/v1/workspaces/${currentWorkspace()}/rehearsals/${id}/events`);
    source.addEventListener("state", (e) => {
      const next = JSON.parse((e as MessageEvent<string>).data) as State;
      movements = movementsBetween(stands, next);
      for (const [name, n] of Object.entries(next.nodes))
        if (n.depth > (deepest[name] ?? 0)) deepest = { ...deepest, [name]: n.depth };
      [before, stands] = [stands, next];
    });
    source.addEventListener("ended", () => {
      ended = true;
      source?.close();
    });
  }
  onDestroy(() => source?.close());

  const badges = $derived(
    new Map(
      model?.board.nodes
        .filter(({ name }) => stands?.nodes[name])
        .map((n) => [n.name, badge(stands!.nodes[n.name], before?.nodes[n.name], n, deepest[n.name] ?? 0)]),
    ),
  );
  // What was observed, on the board: paler what was not seen, marked what differs.
  let seen = $state.raw<Schemas["RehearsalBeside"] | undefined>();
  const observed = $derived(seen && model ? boardMarks(seen, model.board) : undefined);
  const highlighted = $derived(new Map(Object.keys(stands?.nodes ?? {}).map((name) => [name, ""])));

  // A link is as wide as what has gone along it, in powers of ten.
  const widths = $derived(
    new Map(Object.entries(stands?.links ?? {}).map(([id, l]) => [id, 1.2 + 0.9 * Math.log10(1 + l.messages)])),
  );

  const point = (node: string, at: { x: number; y: number }) =>
    api.POST("/api/v1/workspaces/{workspace}/rehearsals/{id}/pointer", { params: { path }, body: { node, ...at } });

  async function end() {
    const { error } = await api.DELETE("/api/v1/workspaces/{workspace}/rehearsals/{id}", { params: { path } });
    if (error) trouble = sentence(error);
    else if (rehearsal)
      navigate("/w/:workspace/models/:name", { params: { workspace: currentWorkspace(), name: rehearsal.model } });
  }

  async function keep() {
    if (!keeping) return;
    const { data, error } = await api.PUT("/api/v1/workspaces/{workspace}/rehearsals/{id}/scenario/{text}", {
      params: { path: { ...path, text: keeping.name } },
    });
    if (error) keeping = { ...keeping, wrong: sentence(error) };
    else {
      trouble = data.left_out.length
        ? `Kept as ${keeping.name}. A scenario has no words for ${data.left_out.join(", ")}: those are left out.`
        : "";
      if (!trouble)
        said = `Kept as scenario ${keeping.name}: ${count(data.events)} ${data.events === 1 ? "event" : "events"} and what was done by hand.`;
      keeping = undefined;
    }
  }
  let said = $state("");

  function choose(name: string) {
    [chosen, link, side] = [name, "", 1];
  }
  // The last step of a first visit.
  $effect(() => {
    if (rehearsal?.model === demoModel && Object.values(stands?.nodes ?? {}).some((n) => n.fails)) firstVisit.did(3);
  });
  function keys(e: KeyboardEvent) {
    if ((e.target as HTMLElement).closest("input, textarea, select, [role=dialog]") || e.ctrlKey || e.metaKey) return;
    if (e.key === "Escape") [chosen, link] = ["", ""];
    else if (["1", "2", "3", "4"].includes(e.key)) side = Number(e.key) - 1;
  }
</script>

<svelte:head><title>Rehearsal{rehearsal ? ` of ${rehearsal.model}` : ""} · Iron Weir</title></svelte:head>
<svelte:window onkeydown={keys} />

{#if !rehearsal || !model || !stands}
  <div class="page" id="main-content">
    {#if trouble}
      <h1>Rehearsal not found</h1>
      <InlineNotification kind="error" title="The rehearsal was not opened." subtitle={trouble} hideCloseButton />
      <p>
        Start one from a <a href={p("/w/:workspace", { params: { workspace: currentWorkspace() } })}>model</a>: open it
        and press Rehearse.
      </p>
    {:else}
      <Loading withOverlay={false} description="Opening the rehearsal" />
    {/if}
  </div>
{:else}
  <div class="stage" id="main-content">
    <div class="bar">
      <h1>
        {#if visitor.user?.share}{rehearsal.model}{:else}<a
            href={p("/w/:workspace/models/:name", { params: { workspace: currentWorkspace(), name: rehearsal.model } })}
            >{rehearsal.model}</a
          >{/if}
      </h1>
      <span class="quiet"
        >revision {rehearsal.revision}, {rehearsal.scenario || "nothing but what is sent"}{rehearsal.hooks.length
          ? `, ${rehearsal.hooks.length} answered by hooks`
          : ""}</span
      >
      <span class="quiet watchers">watched by {stands.watchers.join(", ") || "nobody"}</span>
      <div class="actions">
        {#if visitor.edits}
          <Button
            size="small"
            kind="tertiary"
            icon={Save}
            disabled={ended}
            on:click={() => (keeping = { name: "rehearsed", wrong: "", left: [] })}>Keep as a scenario</Button
          >
          {#if !ended}<ShareLink what="rehearsal" {id} about="this rehearsal" />{/if}
          <Button size="small" kind="ghost" icon={StopFilledAlt} disabled={ended} on:click={end}>End</Button>
        {/if}
      </div>
    </div>
    {#if ended}
      <InlineNotification
        lowContrast
        kind="info"
        title="The rehearsal has been ended."
        subtitle="What is shown is how it stood."
        hideCloseButton
        style="max-width: none; margin: 0"
      />
    {:else if trouble || said}
      <InlineNotification
        lowContrast
        kind={trouble ? "error" : "success"}
        title={trouble || said}
        on:close={() => ([trouble, said] = ["", ""])}
        style="max-width: none; margin: 0"
      />
    {/if}
    <LiveTime {path} {stands} edits={visitor.edits && !ended} ontrouble={(t) => (trouble = t)} />
    <div class="drawn">
      {#if rehearsal.model === demoModel && visitor.edits}<FirstVisit live />{/if}
      <Board
        board={model.board}
        findings={[]}
        {chosen}
        {link}
        {badges}
        {movements}
        {widths}
        highlighted={observed?.nodes ?? highlighted}
        highlightedLinks={observed?.links ?? new Set(model.board.links.map((l) => l.id))}
        pins={places?.all}
        pointers={stands.pointers.filter((p) => p.who !== visitor.user?.name)}
        onpoint={stands.watchers.length > 1 && !visitor.user?.share ? point : undefined}
        onpin={(put) => places?.put(put)}
        ontidy={() => places?.tidy("")}
        onchoose={choose}
        onlink={(l) => ([chosen, link, side] = ["", l, 1])}
      />
    </div>
    <div class="side">
      <ContentSwitcher size="sm" bind:selectedIndex={side} aria-label="Side panel"
        ><Switch text="Send" /><Switch text={chosen || link ? "Chosen" : "Node"} /><Switch text="Log" /><Switch
          text="Observed"
        /></ContentSwitcher
      >
      <div class="inner">
        {#if side === 0}
          <LiveSend {path} {rehearsal} text={model.text} {chosen} edits={visitor.edits && !ended} now={stands.now_s} />
        {:else if side === 1}
          <LiveNode
            {path}
            board={model.board}
            {stands}
            node={chosen}
            {link}
            edits={visitor.edits && !ended}
            ontrouble={(t) => (trouble = t)}
          />
        {:else if side === 2}
          <LiveActs acts={stands.acts} />
        {:else}
          <LiveObserved
            {path}
            model={rehearsal.model}
            revision={rehearsal.revision}
            text={model.text}
            edits={visitor.edits}
            onseen={(s) => (seen = s?.all ? s : undefined)}
          />
        {/if}
      </div>
    </div>
  </div>
{/if}

<Modal
  open={keeping !== undefined}
  size="xs"
  hasForm
  modalHeading="Keep what has happened"
  primaryButtonText="Keep"
  secondaryButtonText="Cancel"
  selectorPrimaryFocus="#kept-name"
  primaryButtonDisabled={!isName(keeping?.name ?? "")}
  on:click:button--secondary={() => (keeping = undefined)}
  on:close={() => (keeping = undefined)}
  on:submit={keep}
>
  {#if keeping}
    <p class="quiet">
      As a scenario of {rehearsal?.model}: traffic as a replay, actions by hand as incidents. A run of it gives the same
      at full speed.
    </p>
    <TextInput
      id="kept-name"
      labelText="Name of the scenario"
      bind:value={keeping.name}
      invalid={keeping.wrong !== ""}
      invalidText={keeping.wrong}
    />
  {/if}
</Modal>

<style>
  .stage {
    display: grid;
    height: calc(100vh - 3rem);
    grid-template: auto auto auto 1fr / minmax(0, 1.8fr) minmax(22rem, 1fr);
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
  .actions {
    margin-left: auto;
    display: flex;
    gap: 0.5rem;
  }
  .stage > :global(.bx--inline-notification),
  .stage > :global(.time) {
    grid-column: 1 / -1;
  }
  .drawn {
    position: relative;
    grid-column: 1;
    grid-row: 4;
    min-height: 0;
  }
  .side {
    grid-column: 2;
    grid-row: 4;
    min-height: 0;
    display: flex;
    flex-direction: column;
    border-left: 1px solid var(--cds-ui-03);
  }
  .side > :global(.bx--content-switcher) {
    flex: none;
    margin: 0.375rem 0.75rem;
    width: calc(100% - 1.5rem);
  }
  .inner {
    flex: 1;
    min-height: 0;
    overflow: auto;
    padding: 0.5rem 0.75rem 1rem;
    font-size: 0.8125rem;
  }
  @media (max-width: 800px) {
    .stage {
      grid-template: auto auto auto 50vh auto / minmax(0, 1fr);
      overflow: auto;
    }
    .bar,
    .actions {
      flex-wrap: wrap;
    }
    .actions {
      margin-left: 0;
    }
    .side {
      grid-column: 1;
      grid-row: 5;
      border-left: none;
    }
  }
</style>
