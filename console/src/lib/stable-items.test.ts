import { expect, test } from "vitest";
import { stableItems } from "./stable-items";

test("what has not changed is the same object", () => {
  const keep = stableItems<{ id: string; at: { x: number } }>();
  const first = keep([
    { id: "a", at: { x: 1 } },
    { id: "b", at: { x: 2 } },
  ]);
  const then = keep([
    { id: "b", at: { x: 3 } },
    { id: "a", at: { x: 1 } },
    { id: "c", at: { x: 4 } },
  ]);
  expect(then.map((i) => i.id)).toEqual(["b", "a", "c"]);
  expect(then[1]).toBe(first[0]);
  expect(then[0]).not.toBe(first[1]);
  expect(then[0].at.x).toBe(3);
  // What was gone is new when it comes again.
  keep([]);
  expect(keep([{ id: "a", at: { x: 1 } }])[0]).not.toBe(first[0]);
});
