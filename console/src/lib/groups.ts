import type { Board } from "./api";
import { components } from "./components";

/** By what the nodes of a board can be put together: who owns them, and each key of their tags. */
export function groupings(board: Board): string[] {
  const keys = new Set(board.nodes.flatMap((n) => Object.keys(n.tags)));
  return [...(board.nodes.some((n) => n.owner) ? ["owner"] : []), ...[...keys].sort().map((k) => `tag ${k}`)];
}

/** From how many nodes on a board is grouped, or its parts are named, by itself. */
const many = 40;

/** By what a board is grouped where nobody has said: a large one by what most of its nodes have; "": by nothing. */
export function usualGrouping(board: Board): string {
  if (board.nodes.length < many) return "";
  return groupings(board).find((by) => groupsBy(board, by).size > board.nodes.length / 2) ?? "";
}

/** The connected parts of a large board, each named by its node with the most links: "mail and 12 more". */
export function partsOf(board: Board): { name: string; nodes: string[] }[] {
  if (board.nodes.length < many) return [];
  const links = new Map<string, number>();
  for (const l of board.links) for (const n of [l.from, l.to]) links.set(n, (links.get(n) ?? 0) + 1);
  return components(
    board.nodes.map((n) => n.name),
    board.links,
  )
    .filter((nodes) => nodes.length > 2)
    .map((nodes) => {
      const most = nodes.reduce((a, b) => ((links.get(b) ?? 0) > (links.get(a) ?? 0) ? b : a));
      return { name: `${most} and ${nodes.length - 1} more`, nodes };
    });
}

/** The group of each node that has one. */
export function groupsBy(board: Board, by: string): Map<string, string> {
  const of = (n: Board["nodes"][number]) => (by === "owner" ? n.owner : n.tags[by.slice("tag ".length)]);
  return new Map(board.nodes.flatMap((n) => (of(n) ? [[n.name, of(n)]] : [])));
}

/** Whether a node is what somebody looks for: by its name, kind, text, owner or tags. */
export function matches(n: Board["nodes"][number], looked: string): boolean {
  const words = [n.name, n.kind, n.about, n.owner, ...Object.entries(n.tags).map(([k, v]) => `${k}=${v}`)];
  return words.some((w) => w.toLowerCase().includes(looked.trim().toLowerCase()));
}
