import type { Board } from "./api";

/** By what the nodes of a board can be put together: who owns them, and each key of their tags. */
export function groupings(board: Board): string[] {
  const keys = new Set(board.nodes.flatMap((n) => Object.keys(n.tags)));
  return [...(board.nodes.some((n) => n.owner) ? ["owner"] : []), ...[...keys].sort().map((k) => `tag ${k}`)];
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
