import type { Finding, Schemas } from "./api";

type Guarantee = Schemas["CheckGuarantee"];

// Effects from the worst; of two that are alike, the one that survives fewer faults is weaker.
const worst = ["none", "any_number", "at_most_once", "at_least_once", "exactly_once"];
const rank = (effect: string) => (worst.includes(effect) ? worst.indexOf(effect) : 0);

/** The pair whose messages are worst off (whoever gets an answer knows): without a fault, then with one, then by the faults that it survives. */
export function weakest(guarantees: Guarantee[]): Guarantee | undefined {
  const order = (a: Guarantee, b: Guarantee) =>
    rank(a.effects.no_fault) - rank(b.effects.no_fault) ||
    a.survives - b.survives ||
    rank(a.effects.one_fault) - rank(b.effects.one_fault) ||
    b.losses.length - a.losses.length;
  return guarantees.filter((g) => !g.answer).sort(order)[0];
}

/** The first finding that a remedy removes, errors first. */
export const remediable = (findings: Finding[]) => findings.find((f) => !f.accepted && f.remedies.length > 0);

/** What a sensitivity document says of one guess. */
export interface Input {
  path: string;
  range: [string, string];
  effect: { mean: number; size: number };
  turns_at: string | null;
}
interface Sensitivity {
  of: string;
  inputs: Input[];
  others?: { of: string; inputs: Input[] }[];
}

/** The guess most worth measuring: one at which an expectation turns, else the one with the largest effect. */
export function decisive(document: Sensitivity): { of: string; input: Input } | undefined {
  const all = [{ of: document.of, inputs: document.inputs }, ...(document.others ?? [])].flatMap(({ of, inputs }) => {
    const most = Math.max(...inputs.map((i) => i.effect.size), 0);
    return inputs
      .filter((i) => i.effect.size > 0)
      .map((input) => ({ of, input, weight: (input.turns_at ? 2 : 0) + input.effect.size / most }));
  });
  return all.sort((a, b) => b.weight - a.weight)[0];
}
