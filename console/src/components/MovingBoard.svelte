<script lang="ts">
  import { useViewport, type Node } from "@xyflow/svelte";
  import { onDestroy, onMount } from "svelte";
  import {
    drawMoving,
    drawnFor,
    type Inks,
    type MovingBoard,
    type MovingFrame,
    type MovingLinks,
    type MovingNode,
    type MovingView,
  } from "../lib/moving-board";

  /** A large board while it is panned or zoomed, on a canvas: the page is slow to draw what it holds anew for each frame. */
  let {
    nodes,
    board,
    size,
    far,
  }: { nodes: Node[]; board: HTMLElement; size: { width: number; height: number }; far: boolean } = $props();

  let canvas = $state<HTMLCanvasElement>();
  const view = useViewport();

  const inks = (): Inks => {
    const style = getComputedStyle(document.documentElement); // the board itself is about to be hidden
    const ink = (name: string) => style.getPropertyValue(name).trim();
    return {
      "board-ground": ink("--board-ground"),
      "board-node": ink("--board-node"),
      "board-edge": ink("--board-edge"),
      "board-ink": ink("--board-ink"),
      loops: ink("--loops"),
      loses: ink("--loses"),
      fine: ink("--fine"),
      text: ink("--cds-text-01"),
      quiet: ink("--cds-text-02"),
      faint: ink("--cds-ui-03"),
      focus: ink("--cds-focus") || "#0f62fe",
    };
  };

  /** The links as the page draws them, those of one stroke together. */
  function linksOf(colours: Inks): MovingLinks[] {
    const strokes = new Map<string, MovingLinks>();
    for (const drawn of board.querySelectorAll<SVGPathElement>(".svelte-flow__edge-path")) {
      const { stroke, strokeWidth, opacity } = drawn.style;
      const key = [stroke, strokeWidth, opacity].join();
      if (!strokes.has(key))
        strokes.set(key, {
          ways: new Path2D(),
          colour: stroke.includes("--loops") ? colours.loops : colours["board-edge"],
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
  let stop = () => {};
  onMount(() => {
    const context = canvas!.getContext("2d", { alpha: false })!;
    const pixels = devicePixelRatio;
    const colours = inks();
    const all = drawn(colours);
    let last: MovingView | undefined;
    stop = $effect.root(() => {
      $effect(() => {
        const shown = { ...view.current, ...size, far };
        const wanted = drawnFor(shown, last);
        if (wanted !== last) drawMoving(context, all, (last = wanted), colours, pixels);
        canvas!.style.transform = `translate(${shown.x - wanted.x}px, ${shown.y - wanted.y}px)`;
      });
    });
  });
  onDestroy(() => {
    stop();
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
