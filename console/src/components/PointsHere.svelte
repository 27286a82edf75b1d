<script lang="ts">
  import { useSvelteFlow, type Node } from "@xyflow/svelte";
  import type { Place } from "../lib/layout";
  import { nearest } from "../lib/pointing";

  /** Reports where the pointer is on the board, beside the nearest node, a few times a second at most. */
  let { panel, nodes, onpoint }: { panel: HTMLElement; nodes: Node[]; onpoint: (node: string, at: Place) => void } =
    $props();
  const { screenToFlowPosition } = useSvelteFlow();
  const every = 250; // milliseconds
  let last = 0;
  let later: ReturnType<typeof setTimeout> | undefined;

  $effect(() => {
    const tell = (at: Place) => {
      last = Date.now();
      const near = nearest(
        nodes.filter((n) => n.type === "node"),
        at,
      );
      if (near) onpoint(near.id, { x: at.x - near.position.x, y: at.y - near.position.y });
    };
    const moved = (e: PointerEvent) => {
      const at = screenToFlowPosition({ x: e.clientX, y: e.clientY });
      clearTimeout(later);
      later = setTimeout(() => tell(at), Math.max(0, last + every - Date.now()));
    };
    const left = () => {
      clearTimeout(later);
      onpoint("", { x: 0, y: 0 });
    };
    panel.addEventListener("pointermove", moved);
    panel.addEventListener("pointerleave", left);
    return () => {
      clearTimeout(later);
      panel.removeEventListener("pointermove", moved);
      panel.removeEventListener("pointerleave", left);
    };
  });
</script>
