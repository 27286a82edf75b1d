<script lang="ts">
  import "@xyflow/svelte/dist/style.css";
  import {
    Background,
    ControlButton,
    getViewportForBounds,
    Controls,
    MarkerType,
    MiniMap,
    Panel,
    Position,
    SelectionMode,
    SvelteFlow,
    type Edge,
    type Node,
  } from "@xyflow/svelte";
  import { untrack } from "svelte";
  import type { Board, Finding, Schemas } from "../lib/api";
  import { groupsBy, matches, partsOf, usualGrouping } from "../lib/groups";
  import type { Movement } from "../lib/motion";
  import { motion } from "../lib/motion.svelte";
  import { toggled } from "../lib/several";
  import { stableItems } from "../lib/stable-items";
  import {
    extentOf,
    fitted,
    layout,
    nodeHeight,
    rooms,
    shapeOf,
    sharedDeadLetters,
    waiting,
    widthOf,
    type Layout,
    type Place,
  } from "../lib/layout";
  import { theme } from "../lib/theme.svelte";
  import { seenFrom, type View } from "../lib/ways";
  import { alongLinks, isArrow } from "../lib/walk";
  import AddHere from "./AddHere.svelte";
  import BackEdge from "./BackEdge.svelte";
  import BoardNode from "./BoardNode.svelte";
  import type { Badge, NodeState } from "../lib/node-state";
  import BoardFrame from "./BoardFrame.svelte";
  import BoardMenu, { type MenuAt, type MenuItem } from "./BoardMenu.svelte";
  import BoardTools from "./BoardTools.svelte";
  import Motion from "./Motion.svelte";
  import MovingBoard from "./MovingBoard.svelte";
  import PointsHere from "./PointsHere.svelte";
  import Pointers from "./Pointers.svelte";
  import RoutedEdge from "./RoutedEdge.svelte";
  import Several from "./Several.svelte";
  import StubEdge from "./StubEdge.svelte";

  let {
    board,
    findings,
    chosen,
    link = "",
    catalogue,
    edits = false,
    pins = {},
    document = {},
    several = $bindable([]),
    onpin = () => {},
    ontidy = () => {},
    onamend,
    onchoose,
    onlink = () => {},
    onadd = () => {},
    onedit,
    onplace,
    onconnect = () => {},
    onremove = () => {},
    onpicture,
    menu,
    highlighted = new Map(),
    highlightedLinks = new Set(),
    badges = new Map(),
    states = undefined,
    widths = new Map(),
    numbers = new Map(),
    movements,
    lasts,
    pointers = [],
    onpoint,
    embedded = false,
    whole = $bindable(),
  }: {
    board: Board;
    findings: Finding[];
    chosen: string;
    link?: string; // the chosen link
    catalogue?: Schemas["Catalogue"];
    edits?: boolean; // whether nodes and links can be drawn and removed
    pins?: Record<string, Place>; // places that were chosen by hand
    document?: Record<string, unknown>; // the model as it is written
    several?: string[]; // the nodes that are chosen together, where it is more than one
    onpin?: (places: Record<string, Place | null>, moved?: boolean) => void; // null: where the layout puts it
    ontidy?: () => void; // all go where the layout puts them
    onamend?: (patch: Record<string, unknown>) => Promise<string>; // changes the model, or says why not
    onchoose: (name: string, line: number) => void;
    onlink?: (id: string) => void;
    onadd?: (kind: string) => void;
    onedit?: () => void; // edits what is chosen
    onplace?: (kind: string, name: string, from: string) => Promise<string>; // adds a node and a link to it, or says why not
    onconnect?: (from: string, to: string) => void;
    onremove?: () => void; // what is chosen
    onpicture?: (format: "svg" | "png") => void; // asks for the model as a picture
    menu?: (at: MenuAt) => MenuItem[]; // what a node, a link or the board offers
    highlighted?: Map<string, string>;
    highlightedLinks?: Set<string>;
    badges?: Map<string, Badge>; // what a node says beside its kind
    states?: Map<string, NodeState>; // how nodes stand, where that is not as found
    widths?: Map<string, number>; // of links, in pixels
    numbers?: Map<string, string>; // what links say that came along them
    movements?: Movement[]; // what happens just now, for a board on which messages move
    lasts?: number; // how long each is seen, in milliseconds
    pointers?: Schemas["RehearsalPointer"][]; // where others point
    onpoint?: (node: string, at: Place) => void; // where somebody points here: beside the nearest node; "": nowhere
    embedded?: boolean; // it stands within a page that scrolls: the wheel is the page's
    whole?: boolean; // whether the board has the page for itself; not given: it cannot
  } = $props();

  // Where a node is added; free: the layout chooses its place.
  let here = $state<{ at: { x: number; y: number }; from: string; free?: boolean } | undefined>();
  let pointer: { x: number; y: number } | undefined; // on the screen, while it is over the board
  /** Asks for a node to add: where the pointer is, or in the middle of the board, from where the layout takes it. */
  export function add() {
    if (board.nodes.length === 0) panel?.querySelector<HTMLElement>(".kinds button")?.focus();
    const all = panel?.getBoundingClientRect();
    if (!all || !edits || !onplace) return;
    const middle = { x: all.x + all.width / 2, y: all.y + all.height / 2 };
    here = { at: pointer ?? middle, from: "", free: !pointer };
  }
  /** Gives nodes the places that the layout chooses. */
  export const tidy = () => ontidy();
  let asked = $state.raw<{ at: { x: number; y: number }; items: MenuItem[] } | undefined>(); // the menu that is open
  function askMenu(e: MouseEvent) {
    const on = e.target as HTMLElement;
    if (!menu || on.closest("input, textarea, .svelte-flow__panel")) return;
    const node = on.closest<HTMLElement>(".svelte-flow__node")?.dataset.id;
    const link = on.closest<HTMLElement>(".svelte-flow__edge")?.dataset.id;
    const items = menu({
      node: board.nodes.some((n) => n.name === node) ? node : undefined,
      link: board.links.some((l) => l.id === link) ? link : undefined,
    });
    if (items.length === 0) return;
    e.preventDefault();
    asked = { at: { x: e.clientX, y: e.clientY }, items };
  }
  /** Arrows lead along the links of the node that has the focus: on, back, and to what stands beside it. */
  function walk(e: KeyboardEvent) {
    const from = (e.target as HTMLElement).closest<HTMLElement>(".svelte-flow__node")?.dataset.id;
    if (!from || e.shiftKey || e.altKey || e.ctrlKey || e.metaKey || !isArrow(e.key)) return;
    e.preventDefault();
    e.stopPropagation(); // with Shift the arrows move the node
    const to = alongLinks(from, e.key, board.links, (n) => pins[n] ?? places.get(n));
    if (!to) return;
    press(to, false);
    panel?.querySelector<HTMLElement>(`.svelte-flow__node[data-id="${to}"]`)?.focus();
  }
  const pane = (e: Event) => edits && onplace && (e.target as HTMLElement).closest(".svelte-flow__pane");

  let looked = $state("");
  let moved = $state(false); // it is being panned or zoomed
  const farthest = 0.1;
  const readable = 0.4; // the zoom below which names cannot be read
  const large = $derived(board.nodes.length > 150);
  let view = $state<View>("");
  const seen = $derived(
    view && chosen && board.nodes.some((n) => n.name === chosen) ? seenFrom(board, chosen, view) : undefined,
  );
  const pin = (moved: Node[]) =>
    onpin(Object.fromEntries(moved.filter((n) => n.type === "node").map((n) => [n.id, n.position])), true);
  // Several nodes are chosen with Shift: by presses, or by a frame that is drawn round them.
  const together = $derived(edits && !!onamend);
  const one = (names: string[]) => {
    several = names.length > 1 ? names : [];
    if (names.length === 1) onchoose(names[0], line(names[0]));
  };
  const press = (name: string, more: boolean) =>
    more
      ? one(toggled(several.length || !chosen ? several : [chosen], name))
      : ((several = []), onchoose(name, line(name)));
  let under = $state(""); // the link under the pointer
  let panel = $state<HTMLElement>();
  const size = $state({ width: 0, height: 0 }); // of the panel
  let picked = $state<string | undefined>(); // by what somebody wants nodes to stand together
  const grouped = $derived(picked ?? usualGrouping(board));
  let zoom = $state(1);
  const far = $derived(zoom < readable); // too far away to read
  let laid = $state.raw<Layout>({ places: new Map(), routes: new Map(), frames: [] });
  const places = $derived(
    laid.places.size
      ? new Map([
          ...laid.places,
          ...waiting(
            board.nodes.map((n) => n.name),
            laid.places,
          ),
        ])
      : laid.places,
  );
  let nodes = $state.raw<Node[]>([]);
  let edges = $state.raw<Edge[]>([]);

  // From far away the parts of a large board are named. Shared dead letters stand apart from what they belong to.
  const aside = $derived(sharedDeadLetters(board));
  const parts = $derived<Node[]>(
    partsOf(board).map(({ name, nodes: names }) => {
      const standing = names.filter((n) => !aside.has(n));
      const boxes = (standing.length ? standing : names)
        .filter((n) => places.has(n))
        .map((n) => ({ ...(pins[n] ?? places.get(n)!), width: widthOf(n), height: nodeHeight }));
      const box = extentOf(boxes, []);
      const size = { width: box.width, height: box.height };
      return {
        id: `part ${name}`,
        type: "frame",
        position: { x: box.x, y: box.y },
        ...size,
        measured: size,
        zIndex: 5,
        selectable: false,
        draggable: false,
        focusable: false,
        connectable: false,
        data: { name, bare: true },
      };
    }),
  );
  // A new layout only when what is joined has changed, not at every letter typed.
  const groupOf = $derived(groupsBy(board, grouped));
  const room = $derived(numbers.size && !large ? rooms.numbers : rooms.usual);
  const shape = $derived(
    JSON.stringify([board.nodes.map((n) => n.name), [...groupOf], board.links.map((l) => [l.id, l.from, l.to])]),
  );
  $effect(() => {
    const [joined, between] = [shape, room];
    const [current, groups] = untrack(() => [board, groupOf]);
    layout(current, groups, between, shapeOf(panel?.getBoundingClientRect())).then(
      (done) => joined === untrack(() => shape) && between === untrack(() => room) && (laid = done),
    );
  });

  // The size of a node and its handles are known: nothing is measured on the page, nor again when a node changes.
  function sized(name: string) {
    const size = { width: widthOf(name), height: nodeHeight };
    const handle = (type: "source" | "target", position: Position, x: number) => ({
      id: null,
      type,
      position,
      x: x - 4,
      y: nodeHeight / 2 - 4,
      width: 8,
      height: 8,
    });
    return {
      ...size,
      measured: size,
      handles: [handle("target", Position.Left, 0), handle("source", Position.Right, size.width)],
    };
  }
  const [nodeTypes, edgeTypes] = [
    { node: BoardNode, frame: BoardFrame },
    { routed: RoutedEdge, back: BackEdge, stub: StubEdge },
  ];
  const [keptNodes, keptEdges] = [stableItems<Node>(), stableItems<Edge>()];

  $effect(() => {
    const open = findings.filter((f) => !f.accepted && f.severity !== "note");
    const asFound = badges.size === 0 && !states; // nodes show what is found of them, not a moment of a run
    const around: Node[] = laid.frames.map((f) => ({
      id: `group ${f.name}`,
      type: "frame",
      position: { x: f.x, y: f.y },
      width: f.width,
      height: f.height,
      measured: { width: f.width, height: f.height },
      zIndex: -1,
      selectable: false,
      draggable: false,
      focusable: false,
      connectable: false,
      data: { name: f.name },
    }));
    if (far && !grouped) around.push(...parts);
    nodes = keptNodes(
      around.concat(
        board.nodes
          .filter((n) => places.has(n.name))
          .map((n) => ({
            id: n.name,
            type: "node",
            position: pins[n.name] ?? places.get(n.name)!,
            selected: several.length ? several.includes(n.name) : n.name === chosen,
            ...sized(n.name),
            data: {
              name: n.name,
              kind: n.kind,
              role: n.role,
              says: n.says,
              state: badges.get(n.name)?.state ?? states?.get(n.name) ?? (asFound ? (n.state ?? "") : ""),
              codes: [...new Set(open.filter((f) => f.nodes[0] === n.name).map((f) => f.code))],
              chosen: several.length ? several.includes(n.name) : n.name === chosen,
              highlighted: looked
                ? matches(n, looked)
                  ? "highlighted"
                  : "dim"
                : seen
                  ? seen.nodes.has(n.name)
                    ? "highlighted"
                    : "dim"
                  : highlighted.size
                    ? (highlighted.get(n.name) ?? "dim")
                    : "",
              badge: badges.get(n.name),
              edits,
            },
          })),
      ),
    );
    const lit = highlightedLinks.size < board.links.length; // some are picked out
    edges = keptEdges(
      board.links
        .filter((l) => places.has(l.from) && places.has(l.to))
        .map((l) => {
          const colour = asFound && l.loops ? "var(--loops)" : "var(--board-edge)";
          const dash = { call: "7 4", failure: "2 3", "dead-letter": "1 5", success: "10 3", delivery: "", send: "" }[
            l.stroke
          ];
          const on = seen
            ? seen.links.has(l.id)
            : highlightedLinks.has(l.id) ||
              (l.stroke === "dead-letter" && highlighted.has(l.from) && highlighted.has(l.to));
          const points = pins[l.from] || pins[l.to] ? undefined : laid.routes.get(l.id);
          const near = l.id === link || l.id === under || l.from === chosen || l.to === chosen;
          const pale = seen || highlighted.size ? !on : l.stroke === "dead-letter" || l.reach === "impossible";
          return {
            id: l.id,
            source: l.from,
            target: l.to,
            selected: l.id === link,
            ariaLabel: `${l.stroke} from ${l.from} to ${l.to}${l.label ? ", " + l.label : ""}`,
            label:
              [near || (!large && !numbers.size) ? l.label : "", near || !large ? numbers.get(l.id) : ""]
                .filter(Boolean)
                .join("\n") || undefined,
            data: points
              ? { points, from: places.get(l.from)!, to: places.get(l.to)!, wide: widthOf(l.from), near }
              : {},
            class: points ? "routed" : undefined,
            type: points
              ? "routed"
              : l.stroke === "dead-letter" &&
                  aside.has(l.to) &&
                  !near &&
                  !seen?.links.has(l.id) &&
                  !(lit && highlightedLinks.has(l.id))
                ? "stub"
                : (pins[l.to] ?? places.get(l.to)!).x <= (pins[l.from] ?? places.get(l.from)!).x
                  ? "back"
                  : "smoothstep",
            markerEnd: {
              type: l.stroke === "call" ? MarkerType.Arrow : MarkerType.ArrowClosed,
              color: colour,
              width: 22,
              height: 22,
              markerUnits: "userSpaceOnUse",
            },
            style: `stroke: ${colour}; stroke-width: ${widths.has(l.id) ? widths.get(l.id) : (asFound && l.loops) || on || l.id === link ? 3 : l.stroke === "send" ? 1.2 : 1.6}; stroke-dasharray: ${dash}; opacity: ${pale ? (seen || highlighted.size ? 0.2 : 0.45) : 1}`,
            labelStyle: `font-size: ${numbers.size ? 13 : 10}px; white-space: pre-line; text-align: center; background: var(--board-ground); color: var(--cds-text-02); padding: 0 3px; max-width: 130px; overflow-wrap: anywhere`,
          };
        }),
    );
  });

  function overview() {
    const boxes = [...places].map(([name, place]) => ({
      ...(pins[name] ?? place),
      width: widthOf(name),
      height: nodeHeight,
    }));
    const { width = 0, height = 0 } = panel?.getBoundingClientRect() ?? {};
    const extent = extentOf([...boxes, ...laid.frames], laid.routes.values());
    return getViewportForBounds(extent, width, height, farthest, fitted.maxZoom, fitted.padding);
  }

  const line = (name: string) => board.nodes.find((n) => n.name === name)?.line ?? 0;
  const strokes: [string, string][] = [
    ["delivery or send", ""],
    ["waiting call", "7 4"],
    ["success", "10 3"],
    ["failure", "2 3"],
    ["dead-letter", "1 5"],
  ];
</script>

<!-- svelte-ignore a11y_no_noninteractive_element_interactions -->
<div
  bind:this={panel}
  bind:clientWidth={size.width}
  bind:clientHeight={size.height}
  class="board"
  class:large
  class:moved={moved && large}
  class:far
  style="--zoom: {zoom}"
  ondblclick={(e) => pane(e) && (here = { at: { x: e.clientX, y: e.clientY }, from: "" })}
  oncontextmenu={askMenu}
  role="application"
  aria-label="The board: the model drawn"
  onpointermove={(e) => (pointer = { x: e.clientX, y: e.clientY })}
  onpointerleave={() => (pointer = undefined)}
  onkeydowncapture={walk}
  onkeydown={(e) => {
    const at = e.target as HTMLElement;
    if (e.key === "Enter" || e.key === " ") {
      const node = at.closest<HTMLElement>(".svelte-flow__node")?.dataset.id;
      const way = at.closest<HTMLElement>(".svelte-flow__edge")?.dataset.id;
      if (e.key === "Enter" && node && node === chosen && onedit) {
        e.preventDefault();
        onedit();
      } else if (node) press(node, e.shiftKey && together);
      else if (way) onlink(way);
    }
    if ((e.key === "Delete" || e.key === "Backspace") && edits && !at.closest("input, textarea")) onremove();
  }}
>
  {#if places.size}
    <SvelteFlow
      bind:nodes
      bind:edges
      {nodeTypes}
      {edgeTypes}
      colorMode={theme.dark ? "dark" : "light"}
      fitView
      fitViewOptions={fitted}
      minZoom={farthest}
      zoomOnScroll={!embedded}
      preventScrolling={!embedded}
      nodesConnectable={edits}
      zoomOnDoubleClick={!edits}
      onpaneclick={() => ([here, several] = [undefined, []])}
      onconnectend={(e, way) => {
        if (!onplace || way.toNode || !way.fromNode || !(e instanceof MouseEvent)) return;
        here = { at: { x: e.clientX, y: e.clientY }, from: way.fromNode.id };
      }}
      autoPanOnConnect={large}
      elevateEdgesOnSelect={false}
      deleteKey={null}
      selectionKey={together ? "Shift" : null}
      multiSelectionKey={null}
      selectionMode={SelectionMode.Partial}
      onselectionend={() => one(nodes.filter((n) => n.selected && n.type === "node").map((n) => n.id))}
      onselectiondragstop={(_, moved) => pin(moved)}
      proOptions={{ hideAttribution: true }}
      onlyRenderVisibleElements={board.nodes.length > 1000}
      onmovestart={() => (moved = true)}
      onmove={(_, at) => (zoom = at.zoom)}
      onmoveend={() => (moved = false)}
      onnodeclick={({ node, event }) => node.type === "node" && press(node.id, event.shiftKey && together)}
      onedgepointerenter={({ edge }) => (under = edge.id)}
      onedgepointerleave={() => (under = "")}
      onedgeclick={({ edge }) => onlink(edge.id)}
      onnodedragstop={({ nodes }) => pin(nodes)}
      onbeforeconnect={(way) => {
        onconnect(way.source, way.target);
        return false; // the text says what is joined
      }}
    >
      {#if here && onplace && panel}
        <AddHere
          at={here.at}
          from={here.from}
          kinds={catalogue?.kinds ?? []}
          taken={board.nodes.map((n) => n.name)}
          within={panel.getBoundingClientRect()}
          onplace={async (kind, name, place) => {
            const [from, free] = [here?.from ?? "", here?.free];
            const why = await onplace(kind, name, from);
            if (!why && !free) onpin({ [name]: place });
            return why;
          }}
          onclose={() => (here = undefined)}
        />
      {/if}
      {#if several.length && onamend}
        <Several names={several} {board} {document} {onamend} {onremove} onclose={() => (several = [])} />
      {/if}
      {#if !large}<Background gap={24} />{/if}
      <BoardTools
        {board}
        {catalogue}
        {edits}
        pinned={Object.keys(pins).length > 0}
        laid={places}
        {overview}
        {size}
        bind:looked
        bind:view
        bind:grouped={() => grouped, (by) => (picked = by)}
        bind:whole
        {chosen}
        {seen}
        worst={findings.find((f) => !f.accepted)?.nodes ?? []}
        {readable}
        {onpicture}
        {onadd}
        onlayout={ontidy}
        onchoose={(name) => onchoose(name, line(name))}
      />
      <Controls showLock={false} fitViewOptions={fitted} position="top-right" orientation="horizontal">
        {#if movements && !motion.reduced}
          <ControlButton
            title={motion.on ? "Stop motion" : "Show messages move"}
            aria-pressed={motion.on}
            onclick={motion.toggle}
          >
            <svg viewBox="0 0 16 16" aria-hidden="true">
              <path d="M1 8h14" fill="none" stroke="currentColor" stroke-width="1.4" />
              <circle cx="5" cy="8" r="2" /><circle cx="11" cy="8" r="2" />
              {#if !motion.on}<path d="M3 14L13 2" fill="none" stroke="currentColor" stroke-width="1.4" />{/if}
            </svg>
          </ControlButton>
        {/if}
      </Controls>
      {#if pointers.length}<Pointers {pointers} places={(n) => pins[n] ?? places.get(n)} />{/if}
      {#if onpoint && panel}<PointsHere {panel} {nodes} {onpoint} />{/if}
      {#if moved && large && panel}<MovingBoard {nodes} board={panel} {size} {far} />{/if}
      {#if movements && motion.on && panel}<Motion {movements} {lasts} board={panel} />{/if}
      {#if board.nodes.length > 120}<MiniMap pannable zoomable />{/if}
      <Panel position="top-right" style="margin-right: {movements && !motion.reduced ? 130 : 104}px">
        <details class="legend">
          <summary>Legend</summary>
          <ul>
            {#each strokes as [name, dash] (name)}
              <li>
                <svg width="26" height="8" aria-hidden="true"
                  ><path d="M0 4h26" stroke="currentColor" stroke-width="1.6" stroke-dasharray={dash} /></svg
                >{name}
              </li>
            {/each}
            <li class="loops"><span></span>loops</li>
            <li class="loses"><span></span>loses messages if one thing fails</li>
            <li class="full"><span></span>full: at its limit, or overloaded</li>
            <li class="failing"><span></span>failing, or worse</li>
          </ul>
        </details>
      </Panel>
    </SvelteFlow>
  {:else if board.nodes.length === 0}
    <div class="empty quiet">
      <p>Nothing is drawn yet. {edits ? "Add a node:" : ""}</p>
      {#if edits}<p class="kinds">
          {#each catalogue?.kinds ?? [] as k (k.kind)}<button onclick={() => onadd(k.kind)} title={k.about}
              >{k.kind}</button
            >{/each}
        </p>{/if}
    </div>
  {:else}
    <div class="empty quiet drawing" role="status">
      <p>Drawing {board.nodes.length} {board.nodes.length === 1 ? "node" : "nodes"} …</p>
    </div>
  {/if}
</div>
{#if menu}<BoardMenu items={asked?.items ?? []} at={asked?.at} onclose={() => (asked = undefined)} />{/if}

<style>
  .board {
    height: 100%;
    background: var(--board-ground);
    container-type: size;
  }
  .board :global(.svelte-flow) {
    background: var(--board-ground);
  }
  /* Said when it takes long enough to wonder. */
  .drawing {
    animation: appear 0.1s 0.3s backwards;
  }
  @keyframes appear {
    from {
      opacity: 0;
    }
  }
  /* Hidden, not transparent: a thousand transparent things are slow to draw. */
  .large :global(.svelte-flow__handle) {
    visibility: hidden;
  }
  .large :global(.svelte-flow__node:hover .svelte-flow__handle) {
    visibility: visible;
  }
  /* A canvas draws it meanwhile. */
  .moved :global(.svelte-flow__nodes),
  .moved :global(.svelte-flow__edges),
  .moved :global(.svelte-flow__edge-labels),
  .moved :global(.svelte-flow__minimap) {
    content-visibility: hidden;
  }
  /* Too far away to read, a node shows its kind and its state. */
  .far :global(.face) {
    align-items: center;
  }
  .far :global(.face .kind) {
    font-size: 2rem;
  }
  .far :global(.face .kind svg) {
    font-size: 2rem;
    stroke-width: 1.8;
  }
  .far :global(.face .name),
  .far :global(.face .words),
  .far :global(.node > b) {
    display: none;
  }
  .legend {
    background: var(--board-node);
    color: var(--cds-text-02);
    font-size: 0.6875rem;
    padding: 0.375rem 0.5rem;
    border: 1px solid var(--cds-ui-03);
  }
  @container (max-width: 560px) {
    .legend,
    .board :global(.svelte-flow__minimap) {
      display: none;
    }
  }
  .legend summary {
    cursor: pointer;
  }
  .legend ul {
    padding-top: 0.25rem;
  }
  .legend li {
    display: flex;
    align-items: center;
    gap: 0.375rem;
  }
  .legend span {
    width: 26px;
    height: 9px;
    border: 2px solid;
  }
  .legend .loops span {
    border-color: var(--loops);
  }
  .legend .loses span {
    border-color: var(--loses);
  }
  .legend .full span {
    border-color: var(--full);
  }
  .legend .failing span {
    border-color: var(--fails);
  }
  .empty {
    padding: 2rem;
  }
  .kinds {
    display: flex;
    flex-wrap: wrap;
    gap: 0.5rem;
    padding-top: 0.75rem;
  }
  .kinds button {
    padding: 0.375rem 0.75rem;
    background: var(--board-node);
    color: var(--board-ink);
    border: 1px solid var(--board-edge);
    cursor: pointer;
  }
  .board :global(.svelte-flow__edge.selected .svelte-flow__edge-path) {
    filter: drop-shadow(0 0 2px var(--cds-focus, #0f62fe));
  }
</style>
