<script lang="ts">
  import "@xyflow/svelte/dist/style.css";
  import { Background, Controls, MarkerType, MiniMap, Panel, SvelteFlow, type Edge, type Node } from "@xyflow/svelte";
  import type { Board, Finding } from "../lib/api";
  import { layout, nodeHeight, nodeWidth, type Place } from "../lib/layout";
  import { theme } from "../lib/theme.svelte";
  import BoardNode from "./BoardNode.svelte";

  let {
    board,
    findings,
    chosen,
    onchoose,
    lit = new Map(),
    litLinks = new Set(),
  }: { board: Board; findings: Finding[]; chosen: string; onchoose: (name: string, line: number) => void; lit?: Map<string, string>; litLinks?: Set<string> } = $props();

  let places = $state.raw(new Map<string, Place>());
  let nodes = $state.raw<Node[]>([]);
  let edges = $state.raw<Edge[]>([]);

  // A new layout only when what is joined has changed, not at every letter typed.
  const shape = $derived(JSON.stringify([board.nodes.map((n) => n.name), board.links.map((l) => [l.id, l.from, l.to])]));
  $effect(() => {
    void shape;
    const current = board;
    layout(current).then((laid) => (places = laid));
  });

  const looping = (f: Finding) => f.code === "IW101" || f.code === "IW102";
  const losing = (f: Finding) => f.code === "IW201" || f.code === "IW202";

  $effect(() => {
    const open = findings.filter((f) => !f.accepted && f.severity !== "note");
    const loops = new Set(open.filter(looping).flatMap((f) => f.nodes));
    const loopLinks = new Set(open.filter(looping).flatMap((f) => f.links));
    const loses = new Set(open.filter(losing).map((f) => f.nodes[0]));
    nodes = board.nodes
      .filter((n) => places.has(n.name))
      .map((n) => ({
        id: n.name,
        type: "node",
        position: places.get(n.name)!,
        width: nodeWidth,
        height: nodeHeight,
        data: {
          name: n.name,
          kind: n.kind,
          role: n.role,
          state: loops.has(n.name) ? "loops" : loses.has(n.name) ? "loses" : "",
          codes: [...new Set(open.filter((f) => f.nodes[0] === n.name).map((f) => f.code))],
          chosen: n.name === chosen,
          lit: lit.size ? (lit.get(n.name) ?? "dim") : "",
        },
      }));
    edges = board.links
      .filter((l) => places.has(l.from) && places.has(l.to))
      .map((l) => {
        const colour = loopLinks.has(l.id) ? "var(--loops)" : "var(--board-edge)";
        const dash = { call: "7 4", failure: "2 3", "dead-letter": "1 5", success: "10 3", delivery: "", send: "" }[l.stroke];
        const on = litLinks.has(l.id) || (l.stroke === "dead-letter" && lit.has(l.from) && lit.has(l.to));
        const pale = lit.size ? !on : l.stroke === "dead-letter" || l.reach === "impossible";
        return {
          id: l.id,
          source: l.from,
          target: l.to,
          label: loopLinks.has(l.id) || l.from === chosen || l.to === chosen ? l.label : undefined,
          type: "smoothstep",
          markerEnd: { type: l.stroke === "call" ? MarkerType.Arrow : MarkerType.ArrowClosed, color: colour, width: 16, height: 16 },
          style: `stroke: ${colour}; stroke-width: ${loopLinks.has(l.id) || on ? 3 : l.stroke === "send" ? 1.2 : 1.6}; stroke-dasharray: ${dash}; opacity: ${pale ? (lit.size ? 0.2 : 0.45) : 1}`,
          labelStyle: "font-size: 10px; white-space: pre-line; text-align: center; background: var(--board-ground); color: var(--cds-text-02); padding: 0 3px; max-width: 130px;",
        };
      });
  });

  const line = (name: string) => board.nodes.find((n) => n.name === name)?.line ?? 0;
  const strokes: [string, string][] = [["delivery or send", ""], ["waiting call", "7 4"], ["success", "10 3"], ["failure", "2 3"], ["dead-letter", "1 5"]];
</script>

<div class="board" role="application" aria-label="The board: the model drawn">
  {#if places.size}
    <SvelteFlow
      bind:nodes
      bind:edges
      nodeTypes={{ node: BoardNode }}
      colorMode={theme.dark ? "dark" : "light"}
      fitView
      fitViewOptions={{ padding: 0.06, maxZoom: 1.2 }}
      minZoom={0.1}
      nodesConnectable={false}
      deleteKey={null}
      proOptions={{ hideAttribution: true }}
      onlyRenderVisibleElements={board.nodes.length > 150}
      onnodeclick={({ node }) => onchoose(node.id, line(node.id))}
    >
      <Background gap={24} />
      <Controls showLock={false} />
      {#if board.nodes.length > 40}<MiniMap pannable zoomable />{/if}
      <Panel position="top-right">
        <details class="legend"><summary>Legend</summary><ul>
          {#each strokes as [name, dash] (name)}
            <li><svg width="26" height="8" aria-hidden="true"><path d="M0 4h26" stroke="currentColor" stroke-width="1.6" stroke-dasharray={dash} /></svg>{name}</li>
          {/each}
          <li class="loops"><span></span>loops</li>
          <li class="loses"><span></span>loses messages if one thing fails</li>
        </ul></details>
      </Panel>
    </SvelteFlow>
  {:else if board.nodes.length === 0}
    <p class="empty quiet">Nothing is drawn yet. Write a node under <span class="mono">nodes:</span> in the text beside.</p>
  {/if}
</div>

<style>
  .board { height: 100%; background: var(--board-ground); }
  .board :global(.svelte-flow) { background: var(--board-ground); }
  .legend { background: var(--board-node); color: var(--cds-text-02); font-size: 0.6875rem; padding: 0.375rem 0.5rem; border: 1px solid var(--cds-ui-03); }
  .legend summary { cursor: pointer; }
  .legend ul { padding-top: 0.25rem; }
  .legend li { display: flex; align-items: center; gap: 0.375rem; }
  .legend span { width: 26px; height: 9px; border: 2px solid; }
  .legend .loops span { border-color: var(--loops); }
  .legend .loses span { border-color: var(--loses); }
  .empty { padding: 2rem; }
</style>
