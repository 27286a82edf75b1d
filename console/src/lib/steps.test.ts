import { expect, test } from "vitest";
import { fold, sentenceOf, type Step } from "./steps";

const step = (id: number, parent: number, what: string, more: Partial<Step> = {}): Step => ({
  id,
  parent,
  what,
  node: "f",
  t_s: id,
  ...more,
});

test("steps that are left out are counted where they were", () => {
  const rows = fold([step(1, 0, "enters"), step(2, 1, "runs"), step(90, 0, "runs"), step(91, 90, "lost")]);
  expect(rows.map((r) => r.left)).toEqual([0, 0, 87, 0]);
});

test("a step is a sentence", () => {
  expect(sentenceOf(step(1, 0, "enters", { fate: "given_up" }))).toBe("f receives → given-up");
  expect(sentenceOf(step(1, 0, "runs", { try: 2 }))).toBe("f runs (try 2)");
  expect(sentenceOf(step(1, 0, "calls", { link: "f:g", try: 3 }))).toBe("f calls g (try 3)");
  expect(sentenceOf(step(1, 0, "declined", { link: "f:q" }))).toBe("✗ f:q");
  expect(sentenceOf(step(1, 0, "lost"))).toBe("LOST at f");
});

test("equal branches side by side are shown once, different ones are not", () => {
  const branch = (id: number, key: string) => [
    step(id, 1, "sends", { link: "f:q" }),
    step(id + 1, id, "held", { node: "q", event: { subject: key } }),
  ];
  const six = fold([step(1, 0, "runs"), ...[2, 4, 6].flatMap((id) => branch(id, "a"))]);
  expect(six.map((r) => [r.step.id, r.depth, r.times, r.last])).toEqual([
    [1, 0, 1, 1],
    [2, 1, 3, 6],
    [3, 2, 1, 3],
  ]);
  const two = fold([step(1, 0, "runs"), ...branch(2, "a"), ...branch(4, "b")]);
  expect(two.map((r) => r.step.id)).toEqual([1, 2, 3, 4, 5]);
});
