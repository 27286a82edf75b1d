import ELK from "elkjs/lib/elk-api.js";
import ElkWorker from "elkjs/lib/elk-worker.min.js?worker";
import type { Board } from "./api";

const elk = new ELK({ workerFactory: () => new ElkWorker() });

export const nodeWidth = 172;
export const nodeHeight = 54;

export interface Place {
  x: number;
  y: number;
}

/** Lays a board out in layers from left to right; the same board always looks the same. */
export async function layout(board: Board): Promise<Map<string, Place>> {
  const nodes = board.nodes ?? [];
  const known = new Set(nodes.map((n) => n.name));
  const laid = await elk.layout({
    id: "board",
    layoutOptions: {
      "elk.algorithm": "layered",
      "elk.direction": "RIGHT",
      "elk.layered.spacing.nodeNodeBetweenLayers": "78",
      "elk.spacing.nodeNode": "26",
      "elk.separateConnectedComponents": "true",
      "elk.spacing.componentComponent": "36",
      "elk.aspectRatio": "1.5",
      "elk.layered.nodePlacement.strategy": "NETWORK_SIMPLEX",
    },
    children: nodes.map((n) => ({ id: n.name, width: nodeWidth, height: nodeHeight })),
    // Ways to a dead-letter would pull everything to one side.
    edges: (board.links ?? []).filter((l) => known.has(l.from) && known.has(l.to) && l.stroke !== "dead-letter").map((l) => ({ id: l.id, sources: [l.from], targets: [l.to] })),
  });
  return new Map((laid.children ?? []).map((c) => [c.id, { x: c.x ?? 0, y: c.y ?? 0 }]));
}
