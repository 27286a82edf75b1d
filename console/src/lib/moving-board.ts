import { nodeHeight, widthOf, type Place } from "./layout";
import { icons } from "./kinds";
import { inkOf, wordOf, type Badge, type NodeState } from "./node-state";

/** What is drawn of a node while the board moves. */
export interface MovingNode extends Place {
  name: string;
  kind: string;
  role: string;
  says: string;
  state: NodeState;
  chosen: boolean;
  highlighted: string;
  badge?: Badge;
}

/** What is drawn of links of one stroke: their ways. */
export interface MovingLinks {
  ways: Path2D;
  colour: string;
  width: number;
  opacity: number;
}

/** A frame round a group, or, bare, the name of a part over its middle. */
export interface MovingFrame extends Place {
  name: string;
  bare: boolean;
  width: number;
  height: number;
}

/** The colours of the board, by their names in the style sheet. */
export const inkNames = {
  ground: "--board-ground",
  node: "--board-node",
  edge: "--board-edge",
  ink: "--board-ink",
  loops: "--loops",
  loses: "--loses",
  parked: "--parked",
  full: "--full",
  fails: "--fails",
  fine: "--fine",
  text: "--cds-text-01",
  quiet: "--cds-text-02",
  faint: "--cds-ui-03",
  focus: "--cds-focus",
};
export type Inks = Record<keyof typeof inkNames, string>;

export interface MovingBoard {
  nodes: MovingNode[];
  links: MovingLinks[];
  frames: MovingFrame[];
}

/** What of the board is drawn: where its origin stands, in pixels of the page, how large, and on what area. */
export interface MovingView extends Place {
  zoom: number;
  width: number;
  height: number;
  far: boolean; // names cannot be read: nodes show their kind
}

/**
 * The view that is drawn for one that is shown: with room around it, so that it can be shifted for a while. What was
 * drawn last serves as long as the zoom is the same and the area shown lies within it.
 */
export function drawnFor(shown: MovingView, last?: MovingView): MovingView {
  const [besideX, besideY] = [shown.width / 2, shown.height / 2];
  const serves =
    last &&
    last.zoom === shown.zoom &&
    last.far === shown.far &&
    Math.abs(shown.x + besideX - last.x) <= besideX &&
    Math.abs(shown.y + besideY - last.y) <= besideY;
  if (serves) return last;
  return {
    ...shown,
    x: shown.x + besideX,
    y: shown.y + besideY,
    width: 2 * shown.width,
    height: 2 * shown.height,
  };
}

const font = "'IBM Plex Sans', system-ui, sans-serif";
const iconPaths = new Map<string, Path2D>();
function iconOf(kind: string): Path2D {
  if (!iconPaths.has(kind)) iconPaths.set(kind, new Path2D(icons[kind] ?? ""));
  return iconPaths.get(kind)!;
}

/** How a node's outline is coloured, and how wide it is, as in BoardNode. */
function lineOf(n: MovingNode, inks: Inks): { line: string; wide: number } {
  if (n.highlighted === "dim") return { line: inks.faint, wide: 1 };
  const ink = inkOf[n.state];
  return { line: inks[ink], wide: { edge: 1, loops: 3, fails: 3 }[ink as string] ?? 2 };
}

/** The outline of a node of a role, that far within its box. */
function outline(role: string, width: number, inset: number): Path2D {
  const key = [role, width, inset].join();
  if (!outlines.has(key)) outlines.set(key, newOutline(role, width, inset));
  return outlines.get(key)!;
}
const outlines = new Map<string, Path2D>();

function newOutline(role: string, width: number, inset: number): Path2D {
  const [w, h, path] = [width - 2 * inset, nodeHeight - 2 * inset, new Path2D()];
  if (role === "moves") {
    for (const [x, y] of [
      [10, 0],
      [w - 10, 0],
      [w, h / 2],
      [w - 10, h],
      [10, h],
      [0, h / 2],
    ])
      path.lineTo(inset + x, inset + y);
    path.closePath();
    return path;
  }
  const radii = { holds: 3, starts: [21, 0, 0, 21], ends: [0, 14, 14, 0] }[role] ?? 0;
  path.roundRect(inset, inset, w, h, radii);
  return path;
}

function drawNode(c: CanvasRenderingContext2D, n: MovingNode, far: boolean, inks: Inks) {
  const [width, { line, wide }] = [widthOf(n.name), lineOf(n, inks)];
  c.save();
  c.translate(n.x, n.y);
  const ring = n.chosen ? inks.focus : { bad: line, highlighted: inks.ink }[n.highlighted];
  if (ring) {
    c.strokeStyle = ring;
    c.lineWidth = 6; // the half of it that shows
    c.stroke(outline(n.role, width, 0));
  }
  c.fillStyle = inks.node;
  c.strokeStyle = line;
  c.lineWidth = wide;
  const shape = outline(n.role, width, wide / 2);
  c.fill(shape);
  if (n.role === "ends") c.setLineDash([3, 2]);
  c.stroke(shape);
  c.setLineDash([]);
  c.fillStyle = line;
  if (n.role === "holds") c.fillRect(wide + 4, wide, wide, nodeHeight - 2 * wide);
  if (n.role === "starts") {
    c.clip(shape);
    c.fillRect(0, 0, 5, nodeHeight);
  }
  if (n.badge) {
    c.fillStyle = n.state ? line : inks.fine;
    c.fillRect(wide, nodeHeight - wide - 5, (width - 2 * wide) * n.badge.full, 5);
  }
  (far ? drawKind : drawWords)(c, n, width, inks);
  c.restore();
}

function drawIcon(c: CanvasRenderingContext2D, kind: string, x: number, y: number, size: number, stroke: number) {
  c.save();
  c.translate(x, y);
  c.scale(size / 16, size / 16);
  c.lineWidth = stroke;
  c.lineCap = c.lineJoin = "round";
  c.stroke(iconOf(kind));
  c.restore();
}

function drawKind(c: CanvasRenderingContext2D, n: MovingNode, width: number, inks: Inks) {
  c.strokeStyle = inks.quiet;
  drawIcon(c, n.kind, width / 2 - 16, nodeHeight / 2 - 16, 32, 1.8);
}

function drawWords(c: CanvasRenderingContext2D, n: MovingNode, width: number, inks: Inks) {
  const left = { holds: 11, moves: 13, starts: 17 }[n.role] ?? 11;
  c.beginPath();
  c.rect(0, 0, width - 6, nodeHeight);
  c.clip();
  c.fillStyle = n.highlighted === "dim" ? inks.quiet : inks.ink;
  c.letterSpacing = "-0.14px"; // as the page writes them
  c.font = `${n.highlighted === "dim" ? 400 : 600} 15px ${font}`;
  c.fillText(n.name, left, 18);
  c.strokeStyle = c.fillStyle = inks.quiet;
  drawIcon(c, n.kind, left, 23, 13, 1.4);
  c.font = `13px ${font}`;
  c.fillText(n.badge?.text ?? (n.says || n.kind), left + 17, 34);
}

/** The word of a state, over the upper right corner. */
function drawState(c: CanvasRenderingContext2D, n: MovingNode, inks: Inks) {
  const word = wordOf(n.state);
  if (!word || n.highlighted === "dim") return;
  c.font = `700 12px ${font}`;
  const wide = c.measureText(word).width + 10;
  const left = n.x + widthOf(n.name) - 6 - wide;
  c.fillStyle = inks[inkOf[n.state]];
  c.beginPath();
  c.roundRect(left, n.y - 9, wide, 16, 2);
  c.fill();
  c.fillStyle = inks.node;
  c.fillText(word, left + 5, n.y + 3);
}

function drawFrame(c: CanvasRenderingContext2D, f: MovingFrame, zoom: number, inks: Inks) {
  const size = Math.max(20, 13 / zoom);
  c.font = `600 ${size}px ${font}`;
  if (!f.bare) {
    c.fillStyle = c.strokeStyle = inks.edge;
    c.globalAlpha = 0.07;
    c.fillRect(f.x, f.y, f.width, f.height);
    c.globalAlpha = 1;
    c.lineWidth = 1;
    c.strokeRect(f.x, f.y, f.width, f.height);
    c.fillStyle = inks.quiet;
    c.fillText(f.name, f.x + 16, f.y + 4 + size);
    return;
  }
  const wide = c.measureText(f.name).width + size / 2;
  const [x, y] = [f.x + f.width / 2, f.y + f.height / 2];
  c.globalAlpha = 0.8;
  c.fillStyle = inks.ground;
  c.fillRect(x - wide / 2, y - size * 0.7, wide, size * 1.4);
  c.globalAlpha = 1;
  c.fillStyle = inks.text;
  c.fillText(f.name, x - wide / 2 + size / 4, y + size * 0.36);
}

/**
 * Draws a large board while it is panned or zoomed: what the page draws of it, but for arrowheads, dashes and what
 * stands on links. A page of hundreds of nodes takes a tenth of a second for each frame; this takes some milliseconds.
 */
export function drawMoving(
  c: CanvasRenderingContext2D,
  board: MovingBoard,
  view: MovingView,
  inks: Inks,
  pixels: number,
) {
  c.setTransform(1, 0, 0, 1, 0, 0);
  c.fillStyle = inks.ground;
  c.fillRect(0, 0, c.canvas.width, c.canvas.height);
  const scale = view.zoom * pixels;
  c.setTransform(scale, 0, 0, scale, view.x * pixels, view.y * pixels);
  const [left, top] = [-view.x / view.zoom, -view.y / view.zoom];
  const [right, bottom] = [left + view.width / view.zoom, top + view.height / view.zoom];
  const seen = board.nodes.filter(
    (n) => n.x < right && n.x + widthOf(n.name) > left && n.y - 9 < bottom && n.y + nodeHeight > top,
  );
  for (const f of board.frames) if (!f.bare) drawFrame(c, f, view.zoom, inks);
  for (const l of board.links) {
    c.globalAlpha = l.opacity;
    c.strokeStyle = l.colour;
    c.lineWidth = l.width;
    c.stroke(l.ways);
  }
  c.globalAlpha = 1;
  for (const n of seen) drawNode(c, n, view.far, inks);
  if (!view.far) for (const n of seen) drawState(c, n, inks);
  for (const f of board.frames) if (f.bare) drawFrame(c, f, view.zoom, inks);
}
