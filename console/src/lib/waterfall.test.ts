import { expect, test } from "vitest";
import { bars } from "./waterfall";

const step = (id: number, parent: number, t_s: number, what: string, node: string, more = {}) => ({
  id,
  parent,
  t_s,
  what,
  node,
  ...more,
});

test("a journey's bars tell how long copies were held and runs lasted", () => {
  const steps = [
    step(1, 0, 0, "enters", "slip", { fate: "handled" }),
    step(2, 1, 0, "offered", "slip"),
    step(3, 1, 1, "runs", "crane", { try: 1 }),
    step(4, 3, 3, "ends", "crane", { why: "failed" }),
    step(5, 1, 3, "waits", "slip"),
    step(6, 1, 8, "runs", "crane", { try: 2 }),
    step(7, 6, 9, "calls", "crane"),
    step(8, 7, 9, "runs", "scale"),
    step(9, 8, 10, "ends", "scale", { why: "succeeded" }),
    step(10, 6, 10, "ends", "crane", { why: "succeeded" }),
  ];
  expect(bars(steps).map((b) => [b.what, b.node, b.depth, b.from, b.to, b.bad, b.says])).toEqual([
    ["held", "slip", 0, 0, 10, false, "handled"],
    ["runs", "crane", 1, 1, 3, true, "failed"],
    ["runs", "crane", 1, 8, 10, false, "try 2, succeeded"],
    ["runs", "scale", 2, 9, 10, false, "succeeded"],
  ]);
});

test("what has not ended goes on to the last step", () => {
  const steps = [
    step(1, 0, 0, "enters", "slip"),
    step(2, 1, 2, "runs", "crane"),
    step(3, 0, 7, "waits", "slip"),
    step(4, 1, 7, "lost", "slip"),
  ];
  expect(bars(steps).map((b) => [b.to, b.bad])).toEqual([
    [7, true],
    [7, false],
  ]);
  expect(bars([])).toEqual([]);
});
