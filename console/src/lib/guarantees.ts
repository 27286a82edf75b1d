import type { Schemas } from "./api";
import { duration } from "./format";

type Guarantee = Schemas["CheckGuarantee"];
type Breach = Schemas["CheckBreach"];

/** An effect in words, as "at least once". */
export const effectWords = (effect: string) => effect.replaceAll("_", " ");

/** What a destination is called; one that is the entry itself is the answer that it gives. */
export const destinationWords = (g: { from: string; to: string }) => (g.from === g.to ? "its answer" : g.to);

export const orderWords = (g: Guarantee) =>
  !g.order.kept ? "not kept" : g.order.by?.length ? `kept by ${g.order.by.join(", ")}` : "kept";

export const delayWords = (g: Guarantee) =>
  [
    g.delay.typical_s === null ? "unknown" : duration(g.delay.typical_s),
    g.delay.at_most_s === null ? "no bound" : `at most ${duration(g.delay.at_most_s)}`,
  ].join(", ");

/** The fault under which something happens, as "if `q:f` is stopped or disabled". */
export function condition(fault?: string): string {
  if (!fault) return "without a fault";
  const happens = new Map<string, string[]>();
  for (const one of fault.split(", ")) {
    const [name, kind] = one.split("/");
    const words = !kind ? "fails" : kind === "crash" ? "crashes" : `is ${kind}`;
    happens.set(name, [...(happens.get(name) ?? []), words]);
  }
  const all = [...happens].map(([name, words]) => `${name} ${words.join(" or ").replaceAll(" or is ", " or ")}`);
  return `if ${all.join(" or ")}`;
}

const plain = (text: string) => text.replaceAll("`", "");
const place = (b: Breach) => b.link || b.node;

/** A reason, and which statement of the guarantee it is, where a run can show it. */
export interface Reason {
  text: string;
  statement?: { what: "lost" | "repeated" | "overtaken"; at: number };
}

/** Why a guarantee is no better, by what it is about. */
export function reasonsOf(g: Guarantee): [string, Reason[]][] {
  const list: [string, Reason[]][] = [
    [
      "Lost",
      (g.losses ?? []).map((b, at) => ({
        text: `${place(b)}: ${b.why} ${condition(b.fault)}`,
        statement: { what: "lost", at },
      })),
    ],
    [
      "Repeated",
      (g.repeats ?? []).map((b, at) => ({
        text: `${place(b)} again, ${condition(b.fault)}: ${plain(b.why)}`,
        statement: { what: "repeated", at },
      })),
    ],
    ["Absorbed", (g.absorbed ?? []).map((a) => ({ text: `${a.node} drops a repetition by its key ${a.key}` }))],
    [
      "Parked",
      (g.parks ?? []).map((p) => ({ text: `in ${p.node}, ${p.fault ? "under a fault" : "without a fault"}` })),
    ],
    [
      "Order not kept",
      g.order.kept || !g.order.why ? [] : [{ text: plain(g.order.why), statement: { what: "overtaken", at: 0 } }],
    ],
    [g.delay.at_most_s === null ? "No bound" : "Bound of the delay", g.delay.why ? [{ text: plain(g.delay.why) }] : []],
  ];
  return list.filter(([, reasons]) => reasons.length > 0);
}

const aspects: Record<string, string> = {
  no_fault: "without a fault",
  one_fault: "with one fault",
  at_most_s: "delay",
};

/** What a change of a model did to a guarantee, as "with one fault: any number → at least once". */
export function guaranteeChange(c: Schemas["CheckGuaranteeChange"]): string {
  if (c.what === "survives") return `survives ${c.before} → ${c.after} faults`;
  return `${aspects[c.what] ?? c.what}: ${effectWords(c.before)} → ${effectWords(c.after)}`;
}
