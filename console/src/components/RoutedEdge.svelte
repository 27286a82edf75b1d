<script lang="ts">
  import { BaseEdge, EdgeLabel, getSmoothStepPath, type EdgeProps } from "@xyflow/svelte";
  import { drawnWay, nodeHeight, shortened, type Place } from "../lib/layout";

  // A link that goes the way that the layout found for it, around the nodes. What it says stands above it where it leads on, below it where it leads back, so that neither hides the other.
  let {
    id,
    data,
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

  // The way, where its ends stood then, how wide the first is, and whether all of the label is wanted.
  const found = $derived(data as { points: Place[]; from: Place; to: Place; wide: number; near: boolean });
  const way = $derived(drawnWay(found.points));
  // Where there is no room for it between the two nodes, it stands above or below both.
  const labelY = $derived.by(() => {
    if (way.label.fits || way.label.side === "on") return way.label.y;
    const tops = [found.from.y, found.to.y];
    return way.label.side === "above" ? Math.min(...tops) : Math.max(...tops) + nodeHeight;
  });
  // While one of its nodes is dragged the link follows, whatever is in between. (Where a link joins a node may be some pixels off its side.)
  const off = (x: number, y: number, place: Place) =>
    Math.abs(y - place.y - nodeHeight / 2) > 4 || Math.abs(x - place.x) > 10;
  const dragged = $derived(off(sourceX - found.wide, sourceY, found.from) || off(targetX, targetY, found.to));
  const path = $derived(
    dragged ? getSmoothStepPath({ sourceX, sourceY, targetX, targetY, sourcePosition, targetPosition })[0] : way.path,
  );
</script>

<BaseEdge {id} {path} {markerEnd} {style} />
{#if label && !dragged && (way.label.fits || found.near)}
  <EdgeLabel x={way.label.x} y={labelY} class={found.near ? "whole" : ""} transparent selectEdgeOnClick>
    <span class={way.label.side} style="{labelStyle}; max-width: {found.near ? 130 : way.label.width}px"
      >{found.near ? label : shortened(label, way.label.width)}</span
    >
  </EdgeLabel>
{/if}

<style>
  /* All of it, also where it is wider than the room between two nodes. */
  :global(.svelte-flow__edge-label.whole) {
    z-index: 1001 !important;
  }
  span {
    position: absolute;
    left: 0;
    width: max-content;
    transform: translate(-50%, -50%);
    line-height: 1.15;
  }
  .above {
    bottom: 4px;
    transform: translateX(-50%);
  }
  .below {
    top: 4px;
    transform: translateX(-50%);
  }
</style>
