import { expect, test } from "vitest";
import { nearest } from "./pointing";

test("a place is told beside the nearest node", () => {
  const box = (id: string, x: number, y: number) => ({ id, position: { x, y }, width: 100, height: 40 });
  const all = [box("a", 0, 0), box("b", 300, 0)];
  expect(nearest(all, { x: 90, y: 10 })?.id).toBe("a");
  expect(nearest(all, { x: 240, y: 200 })?.id).toBe("b");
  expect(nearest([], { x: 0, y: 0 })).toBeUndefined();
});
