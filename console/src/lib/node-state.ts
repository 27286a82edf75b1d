/** How a node stands: by what is found of it, at a moment of a run, by what became of a message, or in a comparison. */
export type NodeState = "" | "loops" | "loses" | "parked" | "full" | "failing" | "worse" | "better" | "differs";

/** The word on its badge: no state is shown by colour alone. */
export const wordOf = (state: NodeState) => (state === "loops" ? "loop" : state);

/** The name of its colour in the style sheet. */
export const inkOf: Record<NodeState, "edge" | "loops" | "loses" | "parked" | "full" | "fails" | "fine"> = {
  "": "edge",
  loops: "loops",
  loses: "loses",
  parked: "parked",
  full: "full",
  failing: "fails",
  worse: "fails",
  better: "fine",
  differs: "fails",
};

/** What a node says on the board beside its name: words, how full it is (0 to 1), and how many messages wait there. */
export interface Badge {
  text: string;
  full: number;
  state: NodeState;
  waits?: number;
}

/** What a node does at a moment, from which its state follows: messages and runs of the moment, and its limit. */
export interface Moment {
  failing: boolean;
  lost: number;
  depth: number;
  throttled: number; // turned away, since no run was free for them
  capacity: number; // messages that it holds at most; 0: without limit
}

/** The state of a moment: what fails comes before what is lost by it, and that before a limit that is met. */
export function stateAt(m: Moment): NodeState {
  if (m.failing) return "failing";
  if (m.lost > 0) return "loses";
  if (m.throttled > 0 || (m.capacity > 0 && m.depth >= m.capacity)) return "full";
  return "";
}
