<script lang="ts">
  import { useViewport, type Node } from "@xyflow/svelte";
  import { onDestroy, untrack } from "svelte";
  import {
    drawMoving,
    drawnFor,
    inkNames,
    type Inks,
    type MovingBoard,
    type MovingFrame,
    type MovingLinks,
    type MovingNode,
    type MovingView,
  } from "../lib/moving-board";

  /** A large board while it is panned or zoomed, on a canvas: the page is slow to draw its elements for each frame. */
  let {
    nodes,
    board,
    size,
    far,
  }: { nodes: Node[]; board: HTMLElement; size: { width: number; height: number }; far: boolean } = $props();

  let canvas = $state<HTMLCanvasElement>();
  const view = useViewport();

  function inksNow(): Inks {
    const style = getComputedStyle(document.documentElement); // the board itself is about to be hidden
    const inks = Object.entries(inkNames).map(([ink, name]) => [ink, style.getPropertyValue(name).trim()]);
    return Object.fromEntries(inks) as Inks;
  }

  /** The links as the page draws them, those of one stroke together. */
  function linksOf(colours: Inks): MovingLinks[] {
    const strokes = new Map<string, MovingLinks>();
    for (const drawn of board.querySelectorAll<SVGPathElement>(".svelte-flow__edge-path")) {
      const { stroke, strokeWidth, opacity } = drawn.style;
      const key = [stroke, strokeWidth, opacity].join();
      if (!strokes.has(key))
        strokes.set(key, {
          ways: new Path2D(),
          colour: stroke.includes("--loops") ? colours.loops : colours.edge,
          width: parseFloat(strokeWidth) || 1,
          opacity: opacity === "" ? 1 : Number(opacity),
        });
      strokes.get(key)!.ways.addPath(new Path2D(drawn.getAttribute("d") ?? ""));
    }
    return [...strokes.values()];
  }

  function drawn(colours: Inks): MovingBoard {
    const inner = nodes.filter((n) => n.type === "node");
    return {
      nodes: inner.map((n) => ({ ...n.position, ...n.data }) as unknown as MovingNode),
      links: linksOf(colours),
      frames: nodes
        .filter((n) => n.type === "frame")
        .map((n) => ({ ...n.position, width: n.width, height: n.height, bare: false, ...n.data }) as MovingFrame),
    };
  }

  // What had the focus has it again afterwards: what is not drawn cannot keep it.
  const focused = document.activeElement;
  const colours = inksNow();
  const all = untrack(() => drawn(colours)); // as it is when the movement begins
  let last: MovingView | undefined;
  $effect(() => {
    const shown = { ...view.current, ...size, far };
    const wanted = drawnFor(shown, last);
    if (wanted !== last)
      drawMoving(canvas!.getContext("2d", { alpha: false })!, all, (last = wanted), colours, devicePixelRatio);
    canvas!.style.transform = `translate(${shown.x - wanted.x}px, ${shown.y - wanted.y}px)`;
  });
  onDestroy(() => {
    if (!board.contains(focused)) return;
    requestAnimationFrame(() => {
      const free = [null, document.body].includes(document.activeElement as HTMLElement | null);
      if (free) (focused as HTMLElement | SVGElement).focus({ preventScroll: true });
    });
  });
</script>

<canvas
  bind:this={canvas}
  width={2 * size.width * devicePixelRatio}
  height={2 * size.height * devicePixelRatio}
  aria-hidden="true"
></canvas>

<style>
  canvas {
    position: absolute;
    top: 0;
    left: 0;
    width: 200%;
    height: 200%;
    z-index: 4;
    will-change: transform;
    pointer-events: none;
  }
</style>
