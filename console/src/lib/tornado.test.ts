import { expect, test } from "vitest";
import type { Schemas } from "./api";
import { advice, moved, outputs, shareWithin, standing, tornado } from "./tornado";

const guess = (path: string, values: [number, number], size = 1): Schemas["SensitivityInput"] => ({
  path,
  range: ["1s", "9s"],
  values,
  effect: { mean: size, ci: null as never, size },
  share: null,
  turns_at: null,
});
const output = (inputs: Schemas["SensitivityInput"][], holds: boolean | null = null): Schemas["SensitivityOutput"] => ({
  of: "run.ledger.parked < 5",
  value: 4,
  holds,
  inputs,
});

test("bars begin at the result as written, to scale", () => {
  const chart = tornado(output([guess("a", [2, 10]), guess("b", [4, 5])]))!;
  expect(chart.at).toBe(0.25);
  expect(chart.bars[0]).toEqual([
    { from: 0, length: 0.25, end: "lower" },
    { from: 0.25, length: 0.75, end: "upper" },
  ]);
  expect(chart.bars[1][1]).toEqual({ from: 0.25, length: 0.125, end: "upper" });
  expect([chart.low, chart.high]).toEqual([2, 10]);
});

test("what nothing moves has no chart, and nothing to measure", () => {
  const still = output([guess("a", [4, 4], 0)]);
  expect(tornado(still)).toBeUndefined();
  expect(moved(still)).toBe(false);
  expect(advice(still)).toEqual(["No guess changes it within its range: none has to be measured."]);
  expect(moved(output([guess("a", [4, 4], 2)]))).toBe(true);
});

test("advice names what to measure, and where the expectation turns", () => {
  const turning = { ...guess("a", [2, 10]), turns_at: "3.1s" };
  expect(advice(output([turning], true))).toEqual([
    "Measure `a` first: it decides most.",
    "It fails from where `a` is about 3.1s, the other guesses as written.",
  ]);
  expect(advice(output([turning], false))[1]).toMatch(/^It holds from where/);
});

test("numbers and states are written as they are read", () => {
  expect(shareWithin(0.917, [0.58, 1])).toBe("92 % (58–100)");
  expect(standing(output([], true))).toBe("4: holds");
  expect(standing(output([]))).toBe("4");
});

test("the first output and the others are one list", () => {
  const first = output([guess("a", [2, 10])]);
  const doc = { ...first, others: [output([])] } as unknown as Schemas["SensitivityDocument"];
  expect(outputs(doc)).toHaveLength(2);
  expect(outputs({ ...doc, of: "" })).toHaveLength(0);
});
