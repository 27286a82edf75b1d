<script lang="ts">
  import { BaseEdge, EdgeLabel, type EdgeProps } from "@xyflow/svelte";
  import { drawnWay, type Place } from "../lib/layout";

  // A link that goes the way that the layout found for it, around the nodes. What it says stands above it where it leads on, below it where it leads back, so that neither hides the other.
  let { id, data, label, labelStyle, markerEnd, style }: EdgeProps = $props();

  const way = $derived(drawnWay((data as { points: Place[] }).points));
</script>

<BaseEdge {id} path={way.path} {markerEnd} {style} />
{#if label}
  <EdgeLabel x={way.label.x} y={way.label.y} transparent selectEdgeOnClick>
    <span class={way.label.side} style="{labelStyle}; max-width: {way.label.width}px">{label}</span>
  </EdgeLabel>
{/if}

<style>
  span { position: absolute; left: 0; width: max-content; transform: translate(-50%, -50%); line-height: 1.15; }
  .above { bottom: 4px; transform: translateX(-50%); }
  .below { top: 4px; transform: translateX(-50%); }
</style>
