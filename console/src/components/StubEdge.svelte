<script lang="ts">
  import { BaseEdge, EdgeLabel, type EdgeProps } from "@xyflow/svelte";
  import { nodeHeight } from "../lib/layout";

  // A link to a dead-letter node that serves many: a stub below its node, with the target's name.
  // All of them drawn would cover the board.
  let { id, sourceX, sourceY, target, style }: EdgeProps = $props();

  const from = $derived({ x: sourceX - 10, y: sourceY + nodeHeight / 2 });
</script>

<BaseEdge {id} path="M{from.x} {from.y}v8m-4 0h8" {style} interactionWidth={10} />
<EdgeLabel x={from.x} y={from.y} transparent selectEdgeOnClick>
  <span>{target}</span>
</EdgeLabel>

<style>
  span {
    position: absolute;
    right: 8px;
    top: -1px;
    width: max-content;
    font-size: 0.6875rem;
    line-height: 1;
    color: var(--cds-text-02);
  }
</style>
