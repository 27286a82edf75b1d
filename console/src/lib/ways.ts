import type { Board } from "./api";

/** Which part of a board is looked at, from one node. */
export type View = "" | "around" | "onward" | "back";

/** The nodes and links that a view from a node shows: its neighbours, all that a message there can come to, or all that can lead to it. Links that nothing can take lead nowhere. */
export function seenFrom(board: Board, from: string, view: View): { nodes: Set<string>; links: Set<string> } {
  const nodes = new Set([from]);
  const links = new Set<string>();
  const open = board.links.filter((l) => l.reach !== "impossible");
  if (view === "around") {
    for (const l of board.links.filter((l) => l.from === from || l.to === from)) {
      links.add(l.id);
      nodes.add(l.from).add(l.to);
    }
    return { nodes, links };
  }
  const next = (at: string) => open.filter((l) => (view === "onward" ? l.from : l.to) === at);
  for (const queue = [from]; queue.length;) {
    for (const l of next(queue.shift()!)) {
      links.add(l.id);
      const other = view === "onward" ? l.to : l.from;
      if (!nodes.has(other)) {
        nodes.add(other);
        queue.push(other);
      }
    }
  }
  return { nodes, links };
}

/** The nodes and links on the paths from one node to another. */
export function between(board: Board, from: string, to: string): { nodes: Set<string>; links: Set<string> } {
  const onward = seenFrom(board, from, "onward");
  const back = seenFrom(board, to, "back");
  const both = <T>(a: Set<T>, b: Set<T>) => new Set([...a].filter((x) => b.has(x)));
  return { nodes: both(onward.nodes, back.nodes), links: both(onward.links, back.links) };
}
