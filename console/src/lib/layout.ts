import ELK from "elkjs/lib/elk-api.js";
import ElkWorker from "elkjs/lib/elk-worker.min.js?worker";
import type { ElkNode } from "elkjs/lib/elk-api";
import type { Board } from "./api";

const elk = new ELK({ workerFactory: () => new ElkWorker() });

export const nodeWidth = 164;
export const nodeHeight = 54;

/** How a whole board is shown: below the tools, no larger than reads well. */
export const fitted = { padding: { top: "56px", bottom: "14px", left: "44px", right: "20px" }, maxZoom: 1.2 } as const;

export interface Place {
  x: number;
  y: number;
}

const spaced = {
  "elk.algorithm": "layered",
  "elk.direction": "RIGHT",
  "elk.layered.spacing.nodeNodeBetweenLayers": "62",
  "elk.spacing.nodeNode": "22",
  "elk.spacing.edgeNode": "14",
  "elk.padding": "[top=0,left=0,bottom=0,right=0]",
  "elk.layered.nodePlacement.strategy": "NETWORK_SIMPLEX",
  // What is written first stands first, also where the links go round.
  "elk.layered.cycleBreaking.strategy": "MODEL_ORDER",
  "elk.layered.considerModelOrder.strategy": "NODES_AND_EDGES",
};

/** Long chains are broken into rows, so that a board can be read as a whole. */
const wrapped = { "elk.layered.wrapping.strategy": "MULTI_EDGE", "elk.layered.wrapping.additionalEdgeSpacing": "24", "elk.aspectRatio": "1.7" };
const wrapAbove = 7; // nodes

type Link = Board["links"][number];

/** Groups names that links join, in the order of the names. */
export function components(names: string[], links: Pick<Link, "from" | "to">[]): string[][] {
  const root = new Map(names.map((n) => [n, n]));
  const find = (n: string): string => {
    let r = n;
    while (root.get(r) !== r) r = root.get(r)!;
    root.set(n, r);
    return r;
  };
  for (const l of links) root.set(find(l.from), find(l.to));
  const groups = new Map<string, string[]>();
  for (const n of names) groups.set(find(n), [...(groups.get(find(n)) ?? []), n]);
  return [...groups.values()];
}

type Box = { width: number; height: number };

/** The shape of the space that a board has to fill: width by height. */
const shape = 1.6;

/** Puts boxes beside each other on shelves, the tallest first, as wide as makes the whole largest on a board. */
export function shelve(boxes: Box[], gap: number): Place[] {
  const widest = Math.max(0, ...boxes.map((b) => b.width));
  const all = boxes.reduce((sum, b) => sum + b.width + gap, 0);
  let [best, least] = [fill(boxes, gap, widest), Infinity];
  for (let width = widest; width <= Math.max(widest, all); width += Math.max(widest / 8, 1)) {
    const places = fill(boxes, gap, width);
    const right = Math.max(0, ...places.map((p, i) => p.x + boxes[i].width));
    const bottom = Math.max(0, ...places.map((p, i) => p.y + boxes[i].height));
    const size = Math.max(right / shape, bottom);
    if (size < least - 0.5) [best, least] = [places, size];
  }
  return best;
}

/** Fills shelves of one width; what fits goes below another box of the same shelf. */
function fill(boxes: Box[], gap: number, widest: number): Place[] {
  const order = boxes.map((_, i) => i).sort((a, b) => boxes[b].height - boxes[a].height || a - b);
  const places: Place[] = boxes.map(() => ({ x: 0, y: 0 }));
  let [x, y, tall] = [0, 0, 0];
  let column = { x: 0, y: 0, width: 0 }; // the last of the shelf
  for (const i of order) {
    const b = boxes[i];
    if (x > 0 && b.width <= column.width && column.y + b.height <= y + tall) {
      places[i] = { x: column.x, y: column.y };
      column.y += b.height + gap;
      continue;
    }
    if (x > 0 && x + b.width > widest) [x, y, tall] = [0, y + tall + gap, 0];
    places[i] = { x, y };
    column = { x, y: y + b.height + gap, width: b.width };
    x += b.width + gap;
    tall = Math.max(tall, b.height);
  }
  return places;
}

export interface Frame extends Place, Box {
  name: string;
}

const frame = { top: 40, side: 16 }; // room within the frame of a group

type Block = Box & { places: [string, Place][] };

/** Puts blocks beside each other: one block of all. */
function together(blocks: Block[], gap: number): Block {
  const at = shelve(blocks, gap);
  return {
    width: Math.max(0, ...blocks.map((b, i) => at[i].x + b.width)),
    height: Math.max(0, ...blocks.map((b, i) => at[i].y + b.height)),
    places: blocks.flatMap((b, i) => b.places.map(([name, p]): [string, Place] => [name, { x: at[i].x + p.x, y: at[i].y + p.y }])),
  };
}

/** What was laid out lately, so that an edit lays out only the part that it touches. */
const laidOut = new Map<string, Promise<Block>>();
const laidOutAtMost = 200;

/** Lays nodes out that links join. */
function layered(names: string[], links: Link[]): Promise<Block> {
  if (names.length === 1) return Promise.resolve({ width: nodeWidth, height: nodeHeight, places: [[names[0], { x: 0, y: 0 }]] });
  const key = JSON.stringify([names, links.map((l) => [l.id, l.from, l.to])]);
  const known = laidOut.get(key);
  if (known) return known;
  const block = arranged(names, links);
  laidOut.set(key, block);
  if (laidOut.size > laidOutAtMost) laidOut.delete(laidOut.keys().next().value!);
  return block;
}

async function arranged(names: string[], links: Link[]): Promise<Block> {
  const graph: ElkNode = await elk.layout({
    id: names[0],
    layoutOptions: names.length > wrapAbove ? { ...spaced, ...wrapped } : spaced,
    children: names.map((n) => ({ id: n, width: nodeWidth, height: nodeHeight })),
    edges: links.map((l) => ({ id: l.id, sources: [l.from], targets: [l.to] })),
  });
  return { width: graph.width ?? 0, height: graph.height ?? 0, places: (graph.children ?? []).map((c) => [c.id, { x: c.x ?? 0, y: c.y ?? 0 }]) };
}

/** Lays each part out that links join, as blocks. */
function apart(names: string[], links: Link[]): Promise<Block[]> {
  const members = new Set(names);
  const within = links.filter((l) => members.has(l.from) && members.has(l.to));
  return Promise.all(components(names, within).map((part) => layered(part, within.filter((l) => part.includes(l.from)))));
}

/** Gives nodes that are not laid out yet a place in a row below the others, until they are. */
export function waiting(names: string[], places: Map<string, Place>): Map<string, Place> {
  const out = new Map<string, Place>();
  const laid = [...places.values()];
  const below = Math.max(...laid.map((p) => p.y), -nodeHeight) + nodeHeight + 46;
  const left = laid.length ? Math.min(...laid.map((p) => p.x)) : 0;
  for (const name of names) if (!places.has(name)) out.set(name, { x: left + out.size * (nodeWidth + 26), y: below });
  return out;
}

/**
 * Lays a board out in layers from left to right; the same board always looks the same. Nodes of one group, where there are groups, stand together in a frame.
 */
export async function layout(board: Board, groupOf: Map<string, string> = new Map()): Promise<{ places: Map<string, Place>; frames: Frame[] }> {
  const names = board.nodes.map((n) => n.name);
  const known = new Set(names);
  // Ways to a dead-letter would pull everything to one side.
  const links = board.links.filter((l) => known.has(l.from) && known.has(l.to) && l.stroke !== "dead-letter");
  const groups = [...new Set(groupOf.values())].sort();
  const framed = await Promise.all(
    groups.map(async (group): Promise<Block> => {
      const inner = together(await apart(names.filter((n) => groupOf.get(n) === group), links), 26);
      return { width: inner.width + 2 * frame.side, height: inner.height + frame.top + frame.side, places: inner.places.map(([n, p]) => [n, { x: p.x + frame.side, y: p.y + frame.top }]) };
    }),
  );
  const all = [...framed, ...(await apart(names.filter((n) => !groupOf.has(n)), links))];
  const at = shelve(all, 46);
  const frames = groups.map((name, i) => ({ name, ...at[i], width: all[i].width, height: all[i].height }));
  return { places: new Map(together(all, 46).places), frames };
}

/** Lays out a small board that nobody sees: the first layout is several times as slow as those after it. */
export async function warmUp() {
  const names = Array.from({ length: 12 }, (_, i) => `warm-${i}`);
  const links = names.map((from, i) => ({ id: from, from, to: names[(i + 1) % 12] }) as Link).concat(names.map((from, i) => ({ id: `${from}-on`, from, to: names[(i + 5) % 12] }) as Link));
  for (let i = 0; i < 3; i++) await arranged(names, links);
}
