import { movementsOfSteps, type Movement } from "./motion";
import type { NodeState } from "./node-state";
import type { Step } from "./steps";

/** Shows the steps of messages one after the other, and moves them on the board meanwhile. */
export class Player {
  steps = $state.raw<Step[]>([]);
  /** How many steps have been shown. */
  shown = $state(0);
  #timer: ReturnType<typeof setInterval> | undefined;
  #onmove: (movements: Movement[]) => void;

  constructor(onmove: (movements: Movement[]) => void) {
    this.#onmove = onmove;
  }

  get over() {
    return this.shown >= this.steps.length;
  }

  play(steps: Step[]) {
    this.stop();
    this.steps = steps;
    if (matchMedia("(prefers-reduced-motion: reduce)").matches) {
      this.shown = steps.length;
      return;
    }
    this.shown = 0;
    this.#timer = setInterval(
      () => {
        this.#onmove(movementsOfSteps(steps, this.shown, this.shown + 1));
        this.shown++;
        if (this.over) this.stop();
      },
      Math.max(25, Math.min(160, 4000 / Math.max(steps.length, 1))),
    );
  }

  stop() {
    clearInterval(this.#timer);
  }
}

/** What is lit on the board: nodes, with the way in which each is, links, and the states of nodes. */
export interface Lit {
  nodes: Map<string, string>;
  links: Set<string>;
  states?: Map<string, NodeState>;
}

/** The nodes and links that steps light up on the board, and the states of nodes where something ends badly. */
export function litBy(steps: Step[]): Required<Lit> {
  const nodes = new Map<string, string>();
  const states = new Map<string, NodeState>();
  const links = new Set<string>();
  for (const s of steps) {
    if (s.what === "lost") states.set(s.node, "loses");
    if (s.what === "parked") states.set(s.node, "parked");
    if (s.what === "ends" && (s.why ?? "").startsWith("failed")) states.set(s.node, "failing");
    nodes.set(s.node, states.has(s.node) ? "bad" : "highlighted");
    if (s.link && s.what !== "declined") links.add(s.link);
  }
  return { nodes, links, states };
}

/** The steps of several messages as one list, in the order of time; times count from the entry of the first. */
export function together(journeys: { t_s: number; steps: Step[] | null }[]): Step[] {
  const apart = 1_000_000; // between the numbers of the steps of two messages
  return journeys
    .flatMap((j, k) =>
      (j.steps ?? []).map((s) => ({
        ...s,
        id: s.id + k * apart,
        parent: s.parent && s.parent + k * apart,
        t_s: Math.max(0, s.t_s - journeys[0].t_s), // which may be rounded
      })),
    )
    .sort((a, b) => a.t_s - b.t_s || a.id - b.id);
}
