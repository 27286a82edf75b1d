<script lang="ts">
  import { BaseEdge, type EdgeProps } from "@xyflow/svelte";
  import { drawnWay, type Place } from "../lib/layout";

  // A link that goes the way that the layout found for it, around the nodes.
  let { id, data, label, labelStyle, markerEnd, style }: EdgeProps = $props();

  const way = $derived(drawnWay((data as { points: Place[] }).points));
</script>

<BaseEdge {id} path={way.path} labelX={way.label.x} labelY={way.label.y} {label} labelStyle="{labelStyle}; max-width: {way.label.width}px" {markerEnd} {style} />
