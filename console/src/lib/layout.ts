import ELK from "elkjs/lib/elk-api.js";
import ElkWorker from "elkjs/lib/elk-worker.min.js?worker";
import type { ElkExtendedEdge, ElkNode } from "elkjs/lib/elk-api";
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
  "elk.spacing.nodeNode": "22",
  "elk.spacing.edgeNode": "14",
  "elk.padding": "[top=0,left=0,bottom=0,right=0]",
  "elk.layered.nodePlacement.strategy": "NETWORK_SIMPLEX",
  // What is written first stands first, also where the links go round.
  "elk.layered.cycleBreaking.strategy": "MODEL_ORDER",
  "elk.layered.considerModelOrder.strategy": "NODES_AND_EDGES",
};

/** Long chains are broken into rows, so that a board can be read as a whole. */
const wrapped = {
  "elk.layered.wrapping.strategy": "MULTI_EDGE",
  "elk.layered.wrapping.additionalEdgeSpacing": "24",
  "elk.aspectRatio": "1.7",
};
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

type Block = Box & { places: [string, Place][]; routes: [string, Place[]][] };

const moved = (p: Place, by: Place): Place => ({ x: p.x + by.x, y: p.y + by.y });

/** A block's nodes and the ways of its links, moved. */
function shifted(b: Block, by: Place): Pick<Block, "places" | "routes"> {
  return {
    places: b.places.map(([name, p]) => [name, moved(p, by)]),
    routes: b.routes.map(([id, way]) => [id, way.map((p) => moved(p, by))]),
  };
}

/** Puts blocks beside each other: one block of all. */
function together(blocks: Block[], gap: number): Block {
  const at = shelve(blocks, gap);
  const parts = blocks.map((b, i) => shifted(b, at[i]));
  return {
    width: Math.max(0, ...blocks.map((b, i) => at[i].x + b.width)),
    height: Math.max(0, ...blocks.map((b, i) => at[i].y + b.height)),
    places: parts.flatMap((p) => p.places),
    routes: parts.flatMap((p) => p.routes),
  };
}

/** What was laid out lately, so that an edit lays out only the part that it touches. */
const laidOut = new Map<string, Promise<Block>>();
const laidOutAtMost = 200;

/** Lays nodes out that links join, with room of so many pixels between the layers. */
function layered(names: string[], links: Link[], room: number): Promise<Block> {
  if (names.length === 1 && links.length === 0)
    return Promise.resolve({ width: nodeWidth, height: nodeHeight, places: [[names[0], { x: 0, y: 0 }]], routes: [] });
  const key = JSON.stringify([names, links.map((l) => [l.id, l.from, l.to]), room]);
  const known = laidOut.get(key);
  if (known) return known;
  const block = arranged(names, links, room);
  laidOut.set(key, block);
  if (laidOut.size > laidOutAtMost) laidOut.delete(laidOut.keys().next().value!);
  return block;
}

async function arranged(names: string[], links: Link[], room: number): Promise<Block> {
  const graph: ElkNode = await elk.layout({
    id: names[0],
    layoutOptions: {
      ...spaced,
      ...(names.length > wrapAbove ? wrapped : {}),
      "elk.layered.spacing.nodeNodeBetweenLayers": String(room),
    },
    children: names.map((n) => ({ id: n, width: nodeWidth, height: nodeHeight })),
    edges: links.map((l) => ({ id: l.id, sources: [l.from], targets: [l.to] })),
  });
  const way = (e: ElkExtendedEdge): Place[] =>
    (e.sections ?? []).flatMap((s) => [s.startPoint, ...(s.bendPoints ?? []), s.endPoint]);
  return {
    width: graph.width ?? 0,
    height: graph.height ?? 0,
    places: (graph.children ?? []).map((c) => [c.id, { x: c.x ?? 0, y: c.y ?? 0 }]),
    routes: (graph.edges ?? []).map((e): [string, Place[]] => [e.id, way(e)]).filter(([, points]) => points.length > 1),
  };
}

/** Lays each part out that links join, as blocks. */
function apart(names: string[], links: Link[], room: number): Promise<Block[]> {
  const members = new Set(names);
  const within = links.filter((l) => members.has(l.from) && members.has(l.to));
  return Promise.all(
    components(names, within).map((part) =>
      layered(
        part,
        within.filter((l) => part.includes(l.from)),
        room,
      ),
    ),
  );
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

/** How a board is laid out: where its nodes stand, the ways of its links (where they have one), and the frames around groups. */
export interface Layout {
  places: Map<string, Place>;
  routes: Map<string, Place[]>;
  frames: Frame[];
}

/** The room between layers, in pixels: as usual, and where links bear numbers. */
export const rooms = { usual: 62, numbers: 96 };

/**
 * Lays a board out in layers from left to right; the same board always looks the same. Nodes of one group, where there are groups, stand together in a frame.
 */
export async function layout(
  board: Board,
  groupOf: Map<string, string> = new Map(),
  room = rooms.usual,
): Promise<Layout> {
  const names = board.nodes.map((n) => n.name);
  const known = new Set(names);
  // Ways to a dead-letter would pull everything to one side.
  const links = board.links.filter((l) => known.has(l.from) && known.has(l.to) && l.stroke !== "dead-letter");
  const groups = [...new Set(groupOf.values())].sort();
  const framed = await Promise.all(
    groups.map(async (group): Promise<Block> => {
      const inner = together(
        await apart(
          names.filter((n) => groupOf.get(n) === group),
          links,
          room,
        ),
        26,
      );
      return {
        width: inner.width + 2 * frame.side,
        height: inner.height + frame.top + frame.side,
        ...shifted(inner, { x: frame.side, y: frame.top }),
      };
    }),
  );
  const all = [
    ...framed,
    ...(await apart(
      names.filter((n) => !groupOf.has(n)),
      links,
      room,
    )),
  ];
  const at = shelve(all, 46);
  const whole = together(all, 46);
  return {
    places: new Map(whole.places),
    routes: new Map(whole.routes),
    frames: groups.map((name, i) => ({ name, ...at[i], width: all[i].width, height: all[i].height })),
  };
}

const labelled = 44; // pixels that a label needs

/** Where the label of a link stands: beside a level stretch, or on one that goes up or down. */
export interface LabelPlace extends Place {
  width: number; // at most, in pixels
  side: "above" | "below" | "on";
}

/** The path of a way with rounded corners, and the place of its label: at the last stretch, where the way is alone, or at the longest if that is too short. */
export function drawnWay(points: Place[], radius = 8): { path: string; label: LabelPlace } {
  const length = (a: Place, b: Place) => Math.hypot(b.x - a.x, b.y - a.y);
  const toward = (from: Place, to: Place, by: number): Place => {
    const share = by / (length(from, to) || 1);
    return { x: from.x + (to.x - from.x) * share, y: from.y + (to.y - from.y) * share };
  };
  let path = `M${points[0].x} ${points[0].y}`;
  for (let i = 1; i < points.length - 1; i++) {
    const [before, at, after] = [points[i - 1], points[i], points[i + 1]];
    const r = Math.min(radius, length(before, at) / 2, length(at, after) / 2);
    const [a, b] = [toward(at, before, r), toward(at, after, r)];
    path += `L${a.x} ${a.y}Q${at.x} ${at.y} ${b.x} ${b.y}`;
  }
  const last = points[points.length - 1];
  let longest = 1;
  for (let i = 2; i < points.length; i++)
    if (length(points[i - 1], points[i]) > length(points[longest - 1], points[longest]) + 0.5) longest = i;
  if (length(points[points.length - 2], last) >= labelled) longest = points.length - 1;
  const [a, b] = [points[longest - 1], points[longest]];
  const side = Math.abs(a.x - b.x) < 1 ? "on" : a.x < b.x ? "above" : "below";
  return {
    path: `${path}L${last.x} ${last.y}`,
    label: {
      side,
      x: (a.x + b.x) / 2,
      y: (a.y + b.y) / 2,
      width: Math.min(Math.max(Math.abs(a.x - b.x) - 12, 58), 130),
    },
  };
}

/** Lays out a small board that nobody sees: the first layout is several times as slow as those after it. */
export async function warmUp() {
  const names = Array.from({ length: 12 }, (_, i) => `warm-${i}`);
  const links = names
    .map((from, i) => ({ id: from, from, to: names[(i + 1) % 12] }) as Link)
    .concat(names.map((from, i) => ({ id: `${from}-on`, from, to: names[(i + 5) % 12] }) as Link));
  for (let i = 0; i < 3; i++) await arranged(names, links, rooms.usual);
}
