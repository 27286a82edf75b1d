import { expect, test } from "vitest";
import { together, toggled } from "./several";

test("nodes join those that fail together already, however the group is written", () => {
  expect(together({}, "power", ["a", "b"])).toEqual({ "fails-together": { power: ["a", "b"] } });
  expect(together({ "fails-together": { power: ["b", "c"] } }, "power", ["a", "b"])).toEqual({
    "fails-together": { power: ["b", "c", "a"] },
  });
  const stands = { "fails-together": { power: { nodes: ["c"], breaks: { every: "20d", for: "2h" } } } };
  expect(together(stands, "power", ["a"])).toEqual({ "fails-together": { power: { nodes: ["c", "a"] } } });
});

test("a node that is pressed again is chosen no more", () => {
  expect(toggled(["a"], "b")).toEqual(["a", "b"]);
  expect(toggled(["a", "b"], "a")).toEqual(["b"]);
});
