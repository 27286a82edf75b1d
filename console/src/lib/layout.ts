import ELK from "elkjs/lib/elk-api.js";
import ElkWorker from "elkjs/lib/elk-worker.min.js?worker";
import type { ElkExtendedEdge, ElkNode } from "elkjs/lib/elk-api";
import type { Board } from "./api";
import { components } from "./components";

const elk = new ELK({ workerFactory: () => new ElkWorker() });

export const nodeHeight = 42;
const [usualLetter, wideLetter, narrowLetter] = [8.7, 13, 5.4]; // pixels, as the board writes names
/** How wide a node is: as its name needs, within bounds. */
export function widthOf(name: string): number {
  let text = 0;
  for (const c of name) text += /[mw]/.test(c) ? wideLetter : /[fijlrt.-]/.test(c) ? narrowLetter : usualLetter;
  return Math.min(Math.max(Math.ceil(24 + text), 100), 196);
}

const margin = { top: 50, bottom: 8, side: 8 }; // pixels; the tools stand at the top

/** How a whole board is shown: below the tools, no larger than reads well. */
export const fitted = {
  padding: {
    top: `${margin.top}px`,
    bottom: `${margin.bottom}px`,
    left: `${margin.side}px`,
    right: `${margin.side}px`,
  },
  maxZoom: 1.2,
} as const;

/** What a drawn board takes: its boxes, and the links that go round them further than the margin leaves room for. */
export function extentOf(boxes: (Place & { width: number; height: number })[], routes: Iterable<Place[]>) {
  const xs = boxes.flatMap((b) => [b.x, b.x + b.width]);
  const ys = boxes.flatMap((b) => [b.y, b.y + b.height]);
  const [left, right, top, bottom] = [Math.min(...xs), Math.max(...xs), Math.min(...ys), Math.max(...ys)];
  const within = (v: number, low: number, high: number) =>
    v < low ? Math.min(v + margin.side, low) : v > high ? Math.max(v - margin.side, high) : v;
  for (const at of [...routes].flat()) {
    xs.push(within(at.x, left, right));
    ys.push(within(at.y, top, bottom));
  }
  const [x, y] = [Math.min(...xs), Math.min(...ys)];
  return { x, y, width: Math.max(...xs) - x, height: Math.max(...ys) - y };
}

/** The shape of the space that a panel leaves for the board, width by height; undefined: it is not shown yet. */
export function shapeOf(panel: { width: number; height: number } | undefined): number | undefined {
  if (!panel?.height) return undefined;
  return (panel.width - 2 * margin.side) / Math.max(panel.height - margin.top - margin.bottom, 100);
}

export interface Place {
  x: number;
  y: number;
}

const spaced = {
  "elk.algorithm": "layered",
  "elk.direction": "RIGHT",
  "elk.spacing.nodeNode": "14",
  "elk.spacing.edgeNode": "10",
  "elk.layered.spacing.edgeNodeBetweenLayers": "12",
  "elk.padding": "[top=0,left=0,bottom=0,right=0]",
  // What is written first stands first, also where the links go round.
  "elk.layered.cycleBreaking.strategy": "MODEL_ORDER",
  "elk.layered.considerModelOrder.strategy": "NODES_AND_EDGES",
};

/**
 * How nodes are placed within their layers. The placement with the straightest links takes time that grows with the
 * square of a part: 13 s for one of 500 nodes, where the other takes 1 s and no more room.
 */
const placed = (nodes: number) => ({
  "elk.layered.nodePlacement.strategy": nodes > straightBelow ? "LINEAR_SEGMENTS" : "NETWORK_SIMPLEX",
});
const straightBelow = 36;

/** Long chains are broken into rows, so that a board can be read as a whole. */
const wrapped = (ratio: number) => ({
  "elk.layered.wrapping.strategy": "MULTI_EDGE",
  "elk.layered.wrapping.additionalEdgeSpacing": "10",
  "elk.aspectRatio": String(ratio),
});
const wrapAbove = 7; // nodes
const narrow = { below: 1.5, wrapAbove: 2, ratio: 0.6 }; // of a board that is hardly wider than high, as on a phone
/** How wide a part may become for its height: the one that leaves the board largest is taken; 0: it is not broken. */
const ratios = [1.7, 1.1, 2.6, 0];
const tryBelow = 80; // nodes; the parts of a larger board, and large parts, are broken one way
const oneRatio = 2.3; // parts become somewhat higher than this says

type Link = Board["links"][number];

type Box = { width: number; height: number };

/** The shape of the space that a board usually has to fill: width by height. */
const usualShape = 1.8;

/** How large boxes at their places are for a board of a shape: the less, the larger they can be shown. */
function extent(boxes: Box[], places: Place[], shape: number): number {
  const right = Math.max(0, ...places.map((p, i) => p.x + boxes[i].width));
  const bottom = Math.max(0, ...places.map((p, i) => p.y + boxes[i].height));
  return Math.max(right / shape, bottom);
}

/** Packs boxes beside and below each other, in a width that makes the whole largest on a board of a shape. */
export function packed(boxes: Box[], gap: number, shape = usualShape): Place[] {
  const widest = Math.max(0, ...boxes.map((b) => b.width));
  const all = boxes.reduce((sum, b) => sum + b.width + gap, 0);
  let [best, least] = [fill(boxes, gap, widest), Infinity];
  for (let width = Math.max(widest, 1); width <= Math.max(widest, all) * 1.06; width *= 1.06) {
    const places = fill(boxes, gap, width);
    const size = extent(boxes, places, shape);
    if (size < least - 0.5) [best, least] = [places, size];
  }
  return best;
}

/** Puts boxes, the tallest first, each as high up as it fits within a width, and there as far left. */
function fill(boxes: Box[], gap: number, widest: number): Place[] {
  const order = boxes.map((_, i) => i).sort((a, b) => boxes[b].height - boxes[a].height || a - b);
  const places: Place[] = boxes.map(() => ({ x: 0, y: 0 }));
  let line = [{ x: 0, y: 0 }]; // the lower edge of what stands: from each x on, down to y
  for (const i of order) {
    const { width, height } = boxes[i];
    let at: Place | undefined;
    for (let k = 0; k < line.length; k++) {
      const x = line[k].x;
      if (x > 0 && x + width > widest + 0.5) break;
      let y = 0;
      for (let j = k; j < line.length && line[j].x < x + width + gap; j++) y = Math.max(y, line[j].y);
      if (!at || y < at.y) at = { x, y };
    }
    places[i] = at!;
    const end = at!.x + width + gap;
    const under = line.findLast((l) => l.x <= end)!.y;
    line = [
      ...line.filter((l) => l.x < at!.x),
      { x: at!.x, y: at!.y + height + gap },
      { x: end, y: under },
      ...line.filter((l) => l.x > end),
    ];
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

/** Puts blocks beside each other: one block of all, and where each stands. */
function together(blocks: Block[], gap: number, shape?: number): Block & { at: Place[] } {
  const at = packed(blocks, gap, shape);
  const parts = blocks.map((b, i) => shifted(b, at[i]));
  return {
    at,
    width: Math.max(0, ...blocks.map((b, i) => at[i].x + b.width)),
    height: Math.max(0, ...blocks.map((b, i) => at[i].y + b.height)),
    places: parts.flatMap((p) => p.places),
    routes: parts.flatMap((p) => p.routes),
  };
}

/** What was laid out lately, so that an edit lays out only the part that it touches. */
const laidOut = new Map<string, Promise<Block>>();
const laidOutAtMost = 200;

/** Lays nodes out that links join, with room of so many pixels between the layers; broken into rows to be so wide for its height. */
function layered(names: string[], links: Link[], room: number, ratio: number): Promise<Block> {
  if (names.length === 1 && links.length === 0)
    return Promise.resolve({
      width: widthOf(names[0]),
      height: nodeHeight,
      places: [[names[0], { x: 0, y: 0 }]],
      routes: [],
    });
  const key = JSON.stringify([names, links.map((l) => [l.id, l.from, l.to]), room, ratio]);
  const known = laidOut.get(key);
  if (known) return known;
  const block = arranged(names, links, room, ratio);
  laidOut.set(key, block);
  if (laidOut.size > laidOutAtMost) laidOut.delete(laidOut.keys().next().value!);
  return block;
}

async function arranged(names: string[], links: Link[], room: number, ratio: number): Promise<Block> {
  const graph: ElkNode = await elk.layout({
    id: names[0],
    layoutOptions: {
      ...spaced,
      ...placed(names.length),
      ...(ratio ? wrapped(ratio) : {}),
      "elk.layered.spacing.nodeNodeBetweenLayers": String(room),
    },
    children: names.map((n) => ({ id: n, width: widthOf(n), height: nodeHeight })),
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

/** Lays each part out that links join, as blocks that together are largest on a board of a shape. */
async function apart(names: string[], links: Link[], room: number, gap: number, shape?: number): Promise<Block[]> {
  const members = new Set(names);
  const within = links.filter((l) => members.has(l.from) && members.has(l.to));
  const ways = await Promise.all(
    components(names, within).map((part) => {
      const own = within.filter((l) => part.includes(l.from));
      const slim = (shape ?? usualShape) < narrow.below;
      const some = slim ? [...ratios, narrow.ratio] : ratios;
      const tried =
        part.length <= (slim ? narrow.wrapAbove : wrapAbove)
          ? [0]
          : names.length < tryBelow && part.length <= straightBelow
            ? some
            : [slim ? narrow.ratio : oneRatio];
      return Promise.all(tried.map((ratio) => layered(part, own, room, ratio)));
    }),
  );
  const chosen = ways.map((w) => w[0]);
  for (const [i, way] of ways.entries()) {
    let least = Infinity;
    for (const block of way.length > 1 ? way : []) {
      const all = chosen.with(i, block);
      const size = extent(all, packed(all, gap, shape), shape ?? usualShape);
      if (size < least - 0.5) [least, chosen[i]] = [size, block];
    }
  }
  return chosen;
}

/** Gives nodes that are not laid out yet a place in a row below the others, until they are. */
export function waiting(names: string[], places: Map<string, Place>): Map<string, Place> {
  const out = new Map<string, Place>();
  const laid = [...places.values()];
  const below = Math.max(...laid.map((p) => p.y), -nodeHeight) + nodeHeight + 46;
  const left = laid.length ? Math.min(...laid.map((p) => p.x)) : 0;
  let x = left;
  for (const name of names)
    if (!places.has(name)) {
      out.set(name, { x, y: below });
      x += widthOf(name) + 26;
    }
  return out;
}

/** The nodes that are the dead letter of several others. */
export function sharedDeadLetters(board: Board): Set<string> {
  const serves = new Map<string, Set<string>>();
  for (const l of board.links)
    if (l.stroke === "dead-letter") serves.set(l.to, (serves.get(l.to) ?? new Set()).add(l.from));
  return new Set([...serves].filter(([, from]) => from.size > 1).map(([to]) => to));
}

/** How a board is laid out: where its nodes stand, the ways of its links (where they have one), and the frames around groups. */
export interface Layout {
  places: Map<string, Place>;
  routes: Map<string, Place[]>;
  frames: Frame[];
}

const gap = 26; // pixels between parts

/** The room between layers, in pixels: as usual, and where links bear numbers. */
export const rooms = { usual: 28, numbers: 84 };

/**
 * Lays a board out in layers from left to right; the same board always looks the same. Nodes of one group, where there are groups, stand together in a frame.
 */
export async function layout(
  board: Board,
  groupOf: Map<string, string> = new Map(),
  room = rooms.usual,
  shape = usualShape,
): Promise<Layout> {
  const names = board.nodes.map((n) => n.name);
  const known = new Set(names);
  // Ways to a dead-letter node that serves many would pull everything to one side.
  const shared = sharedDeadLetters(board);
  const links = board.links.filter(
    (l) => known.has(l.from) && known.has(l.to) && !(l.stroke === "dead-letter" && shared.has(l.to)),
  );
  const groups = [...new Set(groupOf.values())].sort();
  // All of it is begun before any of it is waited for.
  const framing = groups.map(async (group): Promise<Block> => {
    const inside = names.filter((n) => groupOf.get(n) === group);
    const inner = together(await apart(inside, links, room, gap), gap);
    return {
      width: inner.width + 2 * frame.side,
      height: inner.height + frame.top + frame.side,
      ...shifted(inner, { x: frame.side, y: frame.top }),
    };
  });
  const free = names.filter((n) => !groupOf.has(n));
  const standing = apart(free, links, room, gap, shape);
  const all = [...(await Promise.all(framing)), ...(await standing)];
  const whole = together(all, gap, shape);
  return {
    places: new Map(whole.places),
    routes: new Map(whole.routes),
    frames: groups.map((name, i) => ({ name, ...whole.at[i], width: all[i].width, height: all[i].height })),
  };
}

const labelled = 44; // pixels that a label needs

/** Where the label of a link stands: beside a level stretch, or on one that goes up or down. */
export interface LabelPlace extends Place {
  width: number; // at most, in pixels
  side: "above" | "below" | "on";
  fits: boolean; // there is room for some letters
}

/** What a label says, each line shortened in its middle to a width in pixels. */
export function shortened(text: string, width: number): string {
  const most = Math.max(Math.floor(width / 5.5), 6);
  const cut = (line: string) => {
    if (line.length <= most) return line;
    const tail = Math.floor((most - 1) / 2);
    return `${line.slice(0, most - 1 - tail)}…${line.slice(line.length - tail)}`;
  };
  return text.split("\n").map(cut).join("\n");
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
      fits: length(a, b) >= labelled + 12,
    },
  };
}

/**
 * Lays out boards that are not shown: the first layouts are many times as slow as those after them. One by one, so that
 * a board that is wanted meanwhile waits for one at most.
 */
export async function warmUp() {
  for (let round = 0; round < 3; round++)
    for (const size of [10, straightBelow + 1]) {
      const names = Array.from({ length: size }, (_, i) => `warm-${i}`);
      const links = names.slice(1).map((to, i) => ({ id: to, from: names[i >> 1], to }) as Link); // a tree
      await arranged(names, links, rooms.usual, oneRatio);
    }
}
