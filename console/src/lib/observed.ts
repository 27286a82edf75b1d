import type { Schemas } from "./api";
import { duration, share } from "./format";
import type { Badge } from "./node-state";

export type Comparison = Pick<Schemas["ObservationView"], "drift" | "numbers" | "patch" | "comments">;
type Number = Schemas["ObservedNumber"];

/** A number of the model, or of what was observed, in its own unit. */
export const written = (what: string, x: number) => (what === "fails" ? share(x) : duration(x));

/** The same as short as it can be, for the board. */
export function brief(what: string, x: number) {
  const digits = (v: number) => String(Number(v.toPrecision(2)));
  if (what === "fails") return `${digits(100 * x)}%`;
  const [unit, seconds] = x >= 3600 ? ["h", 3600] : x >= 60 ? ["m", 60] : x >= 1 || x === 0 ? ["s", 1] : ["ms", 0.001];
  return `${digits(x / Number(seconds))}${unit}`;
}

/** What a number is, in words. */
export const nameOf = (what: string) => (what === "fails" ? "fails" : "takes, mean");

/** What is drawn and not seen, and what was seen and is not drawn, each with its title; empty ones are left out. */
export function lists(c: Comparison) {
  return (
    [
      ["Observed, not in the model", [...c.drift.not_modelled.nodes, ...c.drift.not_modelled.links]],
      ["In the model, not observed", [...c.drift.not_observed.nodes, ...c.drift.not_observed.links]],
    ] as const
  ).filter(([, names]) => names.length > 0);
}

/** What the board says of each node: what was observed beside what is modelled. */
export function badges(c: Comparison): Map<string, Badge> {
  const of = new Map<string, Number[]>();
  for (const n of c.numbers) of.set(n.node, [...(of.get(n.node) ?? []), n]);
  const out = new Map<string, Badge>();
  for (const [node, numbers] of of) {
    const said = numbers.find((n) => n.differs) ?? numbers[0];
    out.set(node, {
      text: said.differs
        ? `${brief(said.what, said.observed)} ≠ ${brief(said.what, said.model)}`
        : `≈ ${brief(said.what, said.observed)}`,
      full: 0,
      state: said.differs ? "differs" : "",
    });
  }
  for (const node of c.drift.not_observed.nodes) out.set(node, { text: "not seen", full: 0, state: "" });
  return out;
}

/** What is marked on the board: nodes that differ, and nodes and links that were seen. */
export function boardMarks(c: Comparison, board: Schemas["Board"]) {
  const [missing, unseen] = [new Set(c.drift.not_observed.nodes), new Set(c.drift.not_observed.links)];
  const differs = new Set(c.drift.different.map((d) => d.node));
  return {
    nodes: new Map(
      board.nodes.map(({ name }) => [name, differs.has(name) ? "bad" : missing.has(name) ? "dim" : "highlighted"]),
    ),
    links: new Set(
      board.links.filter((l) => !unseen.has(l.id) && !missing.has(l.from) && !missing.has(l.to)).map((l) => l.id),
    ),
  };
}

/** The spans of each hour of a day, none where nothing came, and the largest. */
export function byHour(hours: { hour: string; spans: number; refused: number }[]) {
  if (hours.length === 0) return [];
  const of = new Map(hours.map((h) => [Date.parse(h.hour), h]));
  const last = Math.max(...of.keys());
  const most = Math.max(...hours.map((h) => h.spans + h.refused), 1);
  return Array.from({ length: 24 }, (_, i) => {
    const at = last - (23 - i) * 3600_000;
    const h = of.get(at);
    return { at, spans: h?.spans ?? 0, refused: h?.refused ?? 0, share: (h?.spans ?? 0) / most };
  });
}
