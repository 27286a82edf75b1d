import type { Result } from "./api";
import type { State } from "./live";
import type { Step } from "./steps";

/** Something that is seen to happen on the board: messages go along a link, or a node runs, loses or parks some. */
export type Movement =
  { what: "goes"; link: string; many: number } | { what: "runs" | "lost" | "parked"; node: string; many: number };

/** What happens in the steps of one message from one to another: each link that it goes along, each run, each end. */
export function movementsOfSteps(steps: Step[], from: number, to: number): Movement[] {
  const out: Movement[] = [];
  for (const s of steps.slice(from, to)) {
    // What is offered goes at once where a reader takes it; what is pushed stands at its target in a step of its own.
    const taken = s.what === "offered" && !steps.some((o) => o.parent === s.id && o.what === "held");
    if (s.link && (s.what === "held" || s.what === "calls" || taken)) out.push({ what: "goes", link: s.link, many: 1 });
    if (s.what === "runs" || s.what === "lost" || s.what === "parked")
      out.push({ what: s.what, node: s.node, many: 1 });
  }
  return out;
}

/** What happens between two states of a rehearsal. */
export function movementsBetween(was: State | undefined, now: State): Movement[] {
  if (!was || now.now_s < was.now_s) return [];
  const out: Movement[] = [];
  for (const [link, l] of Object.entries(now.links)) {
    const many = l.messages - (was.links[link]?.messages ?? 0);
    if (many > 0) out.push({ what: "goes", link, many });
  }
  for (const [node, n] of Object.entries(now.nodes)) {
    const before = was.nodes[node];
    if (!before) continue;
    for (const what of ["runs", "lost", "parked"] as const) {
      const many = n[what] - before[what];
      if (many > 0) out.push({ what, node, many });
    }
  }
  return out;
}

type Lines = Record<string, Record<string, number[] | null> | undefined>;

/** What happens in one step of a run's series: fractions are means of the replications. */
export function movementsOfSeries(series: Result["series"], at: number): Movement[] {
  const out: Movement[] = [];
  for (const [link, along] of Object.entries(series?.links ?? {})) {
    const many = along?.[at] ?? 0;
    if (many > 0) out.push({ what: "goes", link, many });
  }
  for (const [node, lines] of Object.entries((series?.nodes ?? {}) as unknown as Lines))
    for (const what of ["runs", "lost"] as const) {
      const many = lines?.[what]?.[at] ?? 0;
      if (many > 0) out.push({ what, node, many });
    }
  return out;
}

/** As many dots as say how many messages go: one more each time they double, six at most. */
export const dots = (many: number) => Math.min(6, Math.ceil(Math.log2(many + 1)));

/** How many dots stand for messages that wait: each of a few, then one more for each doubling. */
export const waitingDots = (held: number) =>
  held < 0.5 ? 0 : held <= 4 ? Math.round(held) : Math.min(12, 4 + Math.floor(Math.log2(held / 4)));
