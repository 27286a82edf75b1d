<script lang="ts">
  import { BaseEdge, getSmoothStepPath, type EdgeProps } from "@xyflow/svelte";
  import { nodeHeight } from "../lib/layout";

  // A link that leads back goes round below the nodes, not through them.
  let {
    id,
    sourceX,
    sourceY,
    targetX,
    targetY,
    sourcePosition,
    targetPosition,
    label,
    labelStyle,
    markerEnd,
    style,
  }: EdgeProps = $props();

  const way = $derived(
    getSmoothStepPath({
      sourceX,
      sourceY,
      targetX,
      targetY,
      sourcePosition,
      targetPosition,
      centerY: Math.max(sourceY, targetY) + nodeHeight / 2 + 22,
      borderRadius: 8,
      offset: 20,
    }),
  );
</script>

<BaseEdge {id} path={way[0]} labelX={way[1]} labelY={way[2]} {label} {labelStyle} {markerEnd} {style} />
