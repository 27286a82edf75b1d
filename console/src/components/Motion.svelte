<script lang="ts">
  import { useSvelteFlow, ViewportPortal } from "@xyflow/svelte";
  import { untrack } from "svelte";
  import { nodeHeight } from "../lib/layout";
  import { dots, type Movement } from "../lib/motion";

  /** Messages that are seen to move on the board: each new list of movements adds to what is under way. */
  let { movements, board, lasts = 700 }: { movements: Movement[]; board: HTMLElement; lasts?: number } = $props();

  interface Mark {
    id: number;
    what: Movement["what"];
    style: string;
  }
  const most = 160; // marks at once: what more would add is not seen
  let marks = $state.raw<Mark[]>([]);
  let next = 0;
  const flow = useSvelteFlow();

  const wayOf = (link: string) =>
    board.querySelector(`.svelte-flow__edge[data-id="${CSS.escape(link)}"] .svelte-flow__edge-path`)?.getAttribute("d");

  function marksOf(movement: Movement): Mark[] {
    if (movement.what === "goes") {
      const way = wayOf(movement.link);
      if (!way) return [];
      return Array.from({ length: dots(movement.many) }, (_, k) => ({
        id: next++,
        what: movement.what,
        style: `offset-path: path("${way}"); animation-delay: ${Math.round((k * lasts) / 8)}ms`,
      }));
    }
    const node = flow.getNode(movement.node);
    if (!node) return [];
    const { x, y } = node.position;
    const [wide, high] = [node.width ?? 0, node.height ?? nodeHeight];
    const size = movement.what === "runs" ? `width: ${wide}px; height: ${high}px;` : "";
    const [left, top] = movement.what === "runs" ? [x, y] : [x + wide / 2 - 6, y + high - 6];
    return [{ id: next++, what: movement.what, style: `left: ${left}px; top: ${top}px; ${size}` }];
  }

  $effect(() => {
    const more = movements;
    untrack(() => {
      const free = most - marks.length;
      if (free > 0 && more.length) marks = marks.concat(more.flatMap(marksOf).slice(0, free));
    });
  });
</script>

<ViewportPortal target="front">
  {#each marks as m (m.id)}<i
      class="mark {m.what}"
      aria-hidden="true"
      style="{m.style}; --lasts: {lasts}ms"
      onanimationend={() => (marks = marks.filter((other) => other.id !== m.id))}
    ></i>{/each}
</ViewportPortal>

<style>
  .mark {
    position: absolute;
    pointer-events: none;
  }
  .goes,
  .lost,
  .parked {
    width: 12px;
    height: 12px;
    border-radius: 50%;
    background: var(--board-ink);
    box-shadow: 0 0 0 2px var(--board-ground);
  }
  .goes {
    offset-rotate: 0deg;
    offset-distance: 0%;
    opacity: 0;
    animation: goes var(--lasts) ease-in-out both;
  }
  .runs {
    border: 3px solid var(--board-ink);
    border-radius: 4px;
    animation: runs var(--lasts) ease-out both;
  }
  /* What is lost falls out of the picture; what is parked is put on the tray below its node. */
  .lost {
    background: var(--loses);
    animation: lost calc(2 * var(--lasts)) ease-in both;
  }
  .parked {
    border-radius: 2px;
    background: var(--parked);
    animation: parked calc(2 * var(--lasts)) ease-out both;
  }
  @keyframes goes {
    0% {
      offset-distance: 0%;
      opacity: 0;
    }
    10%,
    90% {
      opacity: 1;
    }
    100% {
      offset-distance: 100%;
      opacity: 0;
    }
  }
  @keyframes runs {
    from {
      opacity: 0.8;
    }
    to {
      opacity: 0;
      transform: scale(1.12);
    }
  }
  @keyframes lost {
    20% {
      transform: translateY(0);
      opacity: 1;
    }
    to {
      transform: translateY(160px) rotate(90deg);
      opacity: 0;
    }
  }
  @keyframes parked {
    30% {
      transform: translateY(10px);
      opacity: 1;
    }
    80% {
      opacity: 1;
    }
    to {
      transform: translateY(10px);
      opacity: 0;
    }
  }
</style>
