<script lang="ts">
  import { OverflowMenu, OverflowMenuItem, Search } from "carbon-components-svelte";
  import Add from "carbon-icons-svelte/lib/Add.svelte";
  import { Panel, useSvelteFlow, type Viewport } from "@xyflow/svelte";
  import type { Board, Schemas } from "../lib/api";
  import { groupings, matches } from "../lib/groups";
  import type { View } from "../lib/ways";

  let {
    board,
    catalogue,
    edits,
    pinned,
    overview,
    size,
    laid,
    looked = $bindable(),
    view = $bindable(),
    grouped = $bindable(),
    whole = $bindable(),
    chosen,
    seen,
    worst,
    readable,
    onpicture,
    onadd,
    onlayout,
    onchoose,
  }: {
    board: Board;
    catalogue: Schemas["Catalogue"] | undefined;
    edits: boolean;
    pinned: boolean;
    overview: () => Viewport; // how all of it is seen
    size: { width: number; height: number }; // of the board on the screen
    laid: unknown;
    looked: string;
    view: View;
    grouped: string;
    whole?: boolean;
    chosen: string;
    seen: { nodes: Set<string> } | undefined;
    worst: string[]; // the nodes of the worst finding
    readable: number; // the zoom below which names cannot be read
    onpicture?: (format: "svg" | "png") => void;
    onadd: (kind: string) => void;
    onlayout: () => void;
    onchoose: (name: string) => void;
  } = $props();

  const flow = useSvelteFlow();
  const found = $derived(looked ? board.nodes.filter((n) => matches(n, looked)) : []);

  const by = $derived(groupings(board));

  // A new layout is shown whole. Where it is too large to be read so, it opens on what is around the worst finding.
  let first = true;
  $effect(() => {
    void laid;
    const opens = first;
    requestAnimationFrame(() => {
      flow.setViewport(overview());
      if (opens && flow.getZoom() < readable && worst.length) show(around(worst), 0).then(fill);
    });
    first = false;
  });

  function around(names: string[]): Set<string> {
    const out = new Set(names);
    for (const l of board.links) {
      if (names.includes(l.from)) out.add(l.to);
      if (names.includes(l.to)) out.add(l.from);
    }
    return out;
  }
  /** How long a view takes to move, in milliseconds. */
  const pace = () => (matchMedia("(prefers-reduced-motion: reduce)").matches ? 0 : 250);
  const show = (names: Iterable<string>, duration = pace()) =>
    flow.fitView({ nodes: [...names].map((id) => ({ id })), padding: 0.2, maxZoom: 1.2, duration });

  /** Leaves no room free on one side while nodes are out of sight on the other. */
  function fill() {
    const { x, y, zoom } = flow.getViewport();
    const all = flow.getNodesBounds(board.nodes.map((n) => n.name));
    const shift = (before: number, beyond: number) =>
      before > 0 && beyond > 0 ? -Math.min(before, beyond) : before < 0 && beyond < 0 ? Math.min(-before, -beyond) : 0;
    const [left, right] = [all.x * zoom + x - 16, (all.x + all.width) * zoom + x + 16 - size.width];
    const tools = 64; // the height that they take above
    const [top, bottom] = [all.y * zoom + y - tools, (all.y + all.height) * zoom + y + 16 - size.height];
    flow.setViewport({ x: x + shift(left, right), y: y + shift(top, bottom), zoom });
  }

  // What is chosen elsewhere, in the text or among the findings, comes into sight.
  $effect(() => {
    const name = chosen;
    if (name) requestAnimationFrame(() => intoSight(name));
  });
  function intoSight(name: string) {
    const node = flow.getNode(name);
    if (!node) return;
    const [width, height] = [node.measured?.width ?? node.width ?? 0, node.measured?.height ?? node.height ?? 0];
    const { x, y, zoom } = flow.getViewport();
    const [left, top] = [node.position.x * zoom + x, node.position.y * zoom + y];
    if (left >= 0 && top >= 0 && left + width * zoom <= size.width && top + height * zoom <= size.height) return;
    flow.setCenter(node.position.x + width / 2, node.position.y + height / 2, { zoom, duration: pace() });
  }

  // A board whose room has changed is shown whole.
  let room: boolean | undefined;
  $effect(() => {
    if (room !== undefined && room !== whole) setTimeout(() => flow.setViewport(overview()), 60);
    room = whole;
  });

  const views: [View, string][] = [
    ["", "All"],
    ["around", "Around"],
    ["onward", "From here on"],
    ["back", "What leads here"],
  ];
  $effect(() => {
    if (!seen) return;
    const names = seen.nodes;
    requestAnimationFrame(() => show(names));
  });
  function look(at: View) {
    if (view && !at) flow.setViewport(overview());
    view = at;
  }

  function go() {
    if (!found.length) return;
    show(found.map((n) => n.name));
    if (found.length === 1) onchoose(found[0].name);
  }
</script>

<Panel position="top-left">
  <div class="tools">
    {#if edits}
      <OverflowMenu aria-label="Add a node" iconDescription="Add a node" size="sm" class="adds">
        <span slot="menu" class="add"><Add /> Add</span>
        {#each catalogue?.kinds ?? [] as k (k.kind)}<OverflowMenuItem
            text={k.kind}
            title={k.about}
            on:click={() => onadd(k.kind)}
          />{/each}
      </OverflowMenu>
    {/if}
    <div class="search">
      <Search
        size="sm"
        placeholder="Find a node"
        labelText="Find a node on the board"
        bind:value={looked}
        on:keydown={(e) => e.key === "Enter" && go()}
        on:clear={() => (looked = "")}
      />
    </div>
    {#if looked}<span class="count" role="status"
        >{found.length === 0 ? "no matches" : `${found.length} found, Enter goes there`}</span
      >{/if}
    {#if chosen}
      <div class="views" role="group" aria-label="View">
        {#each views as [at, words] (at)}<button class="again" aria-pressed={view === at} onclick={() => look(at)}
            >{words}</button
          >{/each}
      </div>
    {/if}
    {#if !chosen && by.length}
      <select class="again roomy" aria-label="Grouping" bind:value={grouped}>
        <option value="">No grouping</option>
        {#each by as g (g)}<option value={g}>By {g}</option>{/each}
      </select>
    {/if}
    {#if onpicture && !chosen}<div class="views roomy" role="group" aria-label="Save the model as a picture">
        <button class="again" onclick={() => onpicture("svg")}>SVG</button><button
          class="again"
          onclick={() => onpicture("png")}>PNG</button
        >
      </div>{/if}
    {#if whole !== undefined}<button class="again roomy" aria-pressed={whole} onclick={() => (whole = !whole)}
        >Full-screen board</button
      >{/if}
    {#if pinned}<button class="again" onclick={onlayout}>Auto-layout</button>{/if}
  </div>
</Panel>

<style>
  .tools {
    display: flex;
    align-items: center;
    gap: 0.5rem;
  }
  .search {
    width: 9rem;
  }
  .tools :global(.adds.bx--overflow-menu) {
    width: auto;
    height: 2rem;
  }
  .add {
    display: flex;
    align-items: center;
    gap: 0.25rem;
    padding: 0 0.75rem;
    height: 2rem;
    font-size: 0.8125rem;
    background: var(--board-node);
    color: var(--board-ink);
    border: 1px solid var(--cds-ui-03);
  }
  .count,
  .again {
    font-size: 0.75rem;
    background: var(--board-node);
    color: var(--cds-text-02);
    padding: 0.25rem 0.5rem;
    border: 1px solid var(--cds-ui-03);
  }
  .again {
    cursor: pointer;
    min-height: 1.5rem;
  }
  .again[aria-pressed="true"] {
    background: var(--board-ink);
    color: var(--board-node);
  }
  .views {
    display: flex;
    white-space: nowrap;
  }
  .tools {
    flex-wrap: wrap;
    max-width: calc(100cqw - 8rem);
  }
  select {
    font-family: inherit;
  }
  /* On a narrow board the rest is left out, so that the tools do not cover it. */
  @container (max-width: 560px) {
    .roomy {
      display: none;
    }
  }
</style>
