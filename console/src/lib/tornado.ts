import type { Schemas } from "./api";
import { number } from "./format";

type Output = Schemas["SensitivityOutput"];

/** A bar of a tornado chart, as parts of its width from 0 to 1: from where, how long, and at which end of the range. */
export interface Bar {
  from: number;
  length: number;
  end: "lower" | "upper";
}

/** All outputs of a sensitivity, the first one too. */
export const outputs = (d: Schemas["SensitivityDocument"]): Output[] => (d.of ? [d, ...d.others] : []);

/** The bars of each guess, and where the result as written lies; undefined: no guess moves the result. */
export function tornado(o: Output): { at: number; bars: Bar[][]; low: number; high: number } | undefined {
  const all = [o.value, ...o.inputs.flatMap((i) => i.values)];
  const [low, high] = [Math.min(...all), Math.max(...all)];
  if (high === low) return undefined;
  const part = (x: number) => (x - low) / (high - low);
  const at = part(o.value);
  const bars = o.inputs.map((i) =>
    i.values.map((x, k): Bar => {
      const to = part(x);
      return { from: Math.min(at, to), length: Math.abs(to - at), end: k === 0 ? "lower" : "upper" };
    }),
  );
  return { at, bars, low, high };
}

/** A part of the variance with its interval, in percent. */
export function shareWithin(x: number, ci: number[]): string {
  const [value, low, high] = [x, ...ci].map((v) => Math.round(100 * v));
  return `${value} % (${low}–${high})`;
}

/** Whether any guess changes the output within its range, as far as was seen. */
export const moved = (o: Output) =>
  o.inputs.some((i) => i.effect.size > 0 || (i.share?.total ?? 0) > 0 || i.values.some((v) => v !== o.value));

/** What to do next, in a sentence each. */
export function advice(o: Output): string[] {
  const first = o.inputs[0];
  if (!moved(o)) return ["No guess changes it within its range: none has to be measured."];
  const turns = o.inputs.filter((i) => i.turns_at);
  return [
    `Measure \`${first.path}\` first: it decides most.`,
    ...turns.map(
      (i) =>
        `It ${o.holds ? "fails" : "holds"} from where \`${i.path}\` is about ${i.turns_at}, the other guesses as written.`,
    ),
  ];
}

/** How the output stands with every guess as written. */
export const standing = (o: Output): string =>
  number(o.value) + (o.holds === null || o.holds === undefined ? "" : o.holds ? ": holds" : ": fails");
