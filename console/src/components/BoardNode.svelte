<script lang="ts">
  import { Handle, Position } from "@xyflow/svelte";
  import { nodeHeight, widthOf } from "../lib/layout";
  import { waitingDots } from "../lib/motion";
  import { inkOf, wordOf, type Badge, type NodeState } from "../lib/node-state";
  import KindIcon from "./KindIcon.svelte";

  let {
    data,
  }: {
    data: {
      name: string;
      kind: string;
      role: string;
      says?: string;
      state: NodeState;
      codes: string[];
      chosen: boolean;
      highlighted: string;
      badge?: Badge;
      edits?: boolean;
    };
  } = $props();
  const word = $derived(wordOf(data.state));
  const spoken = $derived(
    `${data.name}, ${data.kind}${data.state ? ", " + data.state : ""}${data.codes.length ? ", " + data.codes.join(" ") : ""}`,
  );
</script>

<div
  class="node {data.role} {data.state && inkOf[data.state]}"
  class:chosen={data.chosen}
  class:edits={data.edits}
  class:dim={data.highlighted === "dim"}
  class:highlighted={data.highlighted === "highlighted"}
  class:bad={data.highlighted === "bad"}
  data-highlight={data.highlighted}
  aria-label={spoken}
  data-node={data.name}
  data-state={data.state}
  style="width: {widthOf(data.name)}px; height: {nodeHeight}px"
  title={spoken + (data.says ? "\n" + data.says : "")}
>
  <!-- Nothing sends to what only starts. -->
  <Handle type="target" position={Position.Left} isConnectable={data.role !== "starts"} />
  <div class="face">
    <span class="name">{data.name}</span>
    {#if data.badge}<span class="level" class:over={data.state} style="width: {100 * data.badge.full}%"></span>{/if}
    <span class="kind"
      ><KindIcon kind={data.kind} /><span class="words"
        >{#if data.badge}{data.badge.text}{:else}{data.says || data.kind}{/if}</span
      ></span
    >
  </div>
  {#if word}<b>{word}</b>{/if}
  {#if data.badge?.waits}<span class="waits" aria-hidden="true"
      >{#each { length: waitingDots(data.badge.waits) }, i (i)}<i></i>{/each}</span
    >{/if}
  <Handle type="source" position={Position.Right} />
</div>

<style>
  .node {
    position: relative;
    --line: var(--board-edge);
    --wide: 1px;
  }
  .face {
    display: flex;
    flex-direction: column;
    justify-content: center;
    height: 100%;
    padding: 0 0.375rem 0 0.625rem;
    background: var(--board-node);
    color: var(--board-ink);
    border: var(--wide) solid var(--line);
    overflow: hidden;
  }
  .name {
    font-size: 0.9375rem;
    line-height: 1.2;
    letter-spacing: -0.01em;
    font-weight: 600;
    white-space: nowrap;
    text-overflow: ellipsis;
    overflow: hidden;
  }
  .kind {
    display: flex;
    align-items: center;
    gap: 0.25rem;
    font-size: 0.8125rem;
    line-height: 1.2;
    letter-spacing: -0.01em;
    color: var(--cds-text-02);
    white-space: nowrap;
  }
  .kind :global(svg) {
    font-size: 0.8125rem;
  }
  .words {
    overflow: hidden;
    text-overflow: ellipsis;
  }
  /* A state is a word as well as a colour. */
  b {
    position: absolute;
    z-index: 1;
    top: -9px;
    right: 6px;
    padding: 0 0.3125rem;
    border-radius: 2px;
    font-size: 0.75rem;
    line-height: 1.3;
    background: var(--line);
    color: var(--board-node);
  }
  /* Messages that wait stand in a row that grows. */
  .waits {
    position: absolute;
    top: -4px;
    left: 8px;
    display: flex;
    gap: 2px;
  }
  b + .waits {
    width: calc(100% - 68px); /* up to the word */
    overflow: hidden;
  }
  .waits i {
    flex: none;
    width: 7px;
    height: 7px;
    border-radius: 50%;
    background: var(--board-ink);
    box-shadow: 0 0 0 1px var(--board-ground);
  }
  /* What a node does shows in its outline: what holds has a double left side, */
  .holds .face {
    border-radius: 3px;
  }
  .holds .face::before {
    content: "";
    position: absolute;
    inset: 0 auto 0 4px;
    border-left: var(--wide) solid var(--line);
  }
  /* what moves is pointed on both sides: two hexagons, one within the other, since a border has no points, */
  .moves .face {
    --points: polygon(10px 0, calc(100% - 10px) 0, 100% 50%, calc(100% - 10px) 100%, 10px 100%, 0 50%);
    border: none;
    padding: 0 0.8rem;
    background: var(--line);
    clip-path: var(--points);
  }
  .moves .face::before {
    content: "";
    position: absolute;
    inset: var(--wide);
    background: var(--board-node);
    clip-path: var(--points);
  }
  .moves .face > * {
    position: relative;
  }
  /* what starts something has a thick, round left end, */
  .starts .face {
    border-radius: 21px 0 0 21px;
    border-left-width: 5px;
    padding-left: 0.75rem;
  }
  /* what ends beyond the model is dashed. */
  .ends .face {
    border-style: dashed;
    border-radius: 0 14px 14px 0;
  }
  /* Colour is for state alone. */
  .loops {
    --line: var(--loops);
    --wide: 3px;
  }
  .loses {
    --line: var(--loses);
    --wide: 2px;
  }
  .parked {
    --line: var(--parked);
    --wide: 2px;
  }
  .full {
    --line: var(--full);
    --wide: 2px;
  }
  .fails {
    --line: var(--fails);
    --wide: 3px;
  }
  .fine {
    --line: var(--fine);
    --wide: 2px;
  }
  .dim {
    --line: var(--cds-ui-03);
  }
  .dim .name {
    color: var(--cds-text-02);
    font-weight: 400;
  }
  .dim > b {
    display: none;
  }
  .highlighted {
    --ring: 2px var(--board-ink);
    --glow: var(--board-ink);
  }
  .bad {
    --ring: 3px var(--line);
    --glow: var(--line);
  }
  .chosen {
    --ring: 3px var(--cds-focus, #0f62fe);
    --glow: var(--cds-focus, #0f62fe);
  }
  .highlighted .face,
  .bad .face,
  .chosen .face {
    box-shadow: 0 0 0 var(--ring);
  }
  .moves.highlighted,
  .moves.bad,
  .moves.chosen {
    filter: drop-shadow(0 0 1px var(--glow)) drop-shadow(0 0 2px var(--glow));
  }
  .face {
    position: relative;
  }
  .face > .level {
    position: absolute;
    left: 0;
    bottom: 0;
    height: 5px;
    background: var(--fine);
  }
  .level.over {
    background: var(--line);
  }
  .node :global(.svelte-flow__handle) {
    opacity: 0;
  }
  .node.edits :global(.svelte-flow__handle) {
    width: 9px;
    height: 9px;
    background: var(--board-ink);
  }
  .node.starts :global(.svelte-flow__handle-left) {
    visibility: hidden !important;
  }
  .node.edits:hover :global(.svelte-flow__handle),
  .node.edits.chosen :global(.svelte-flow__handle) {
    opacity: 0.7;
  }
</style>
