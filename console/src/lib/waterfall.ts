import type { Schemas } from "./api";

type Step = Schemas["Step"];

/** A bar of a waterfall: a copy while it is held, or a run. */
export interface Bar {
  id: number;
  what: "held" | "runs";
  node: string;
  depth: number; // of bars that it lies in
  from: number; // seconds
  to: number;
  bad: boolean;
  says: string;
}

const bad = (s: Step) =>
  s.what === "lost" ||
  s.what === "parked" ||
  s.what === "returned" ||
  (s.what === "ends" && (s.why ?? "").startsWith("failed"));

/** The bars of a journey, in the order in which they begin: how long each copy was held, and each run lasted. What has not ended by the last step goes on to it. */
export function bars(steps: Step[]): Bar[] {
  const last = Math.max(0, ...steps.map((s) => s.t_s));
  const below = new Map<number, Step[]>();
  for (const s of steps) below.set(s.parent, [...(below.get(s.parent) ?? []), s]);
  const over = (run: Step) => (below.get(run.id) ?? []).find((s) => s.what === "ends");
  const out: Bar[] = [];
  const depth = new Map<number, number>([[0, -1]]);
  for (const s of steps) {
    const of = depth.get(s.parent) ?? -1;
    const children = below.get(s.id) ?? [];
    if (s.what === "runs") {
      const end = over(s);
      depth.set(s.id, of + 1);
      out.push({
        id: s.id,
        what: "runs",
        node: s.node,
        depth: of + 1,
        from: s.t_s,
        to: end?.t_s ?? last,
        bad: end ? bad(end) : false,
        says: `${s.try && s.try > 1 ? `try ${s.try}, ` : ""}${end ? (end.why ?? "ended") : "goes on"}`,
      });
    } else if (s.what === "enters" || s.what === "held") {
      const ends = children.map((c) => (c.what === "runs" ? (over(c)?.t_s ?? last) : c.t_s));
      depth.set(s.id, of + 1);
      out.push({
        id: s.id,
        what: "held",
        node: s.node,
        depth: of + 1,
        from: s.t_s,
        to: Math.max(s.t_s, ...ends),
        bad: children.some(bad),
        says: s.fate ? s.fate.replaceAll("_", "-") : "held",
      });
    } else depth.set(s.id, of);
  }
  return out;
}
