import { expect, test } from "vitest";
import { alongLinks, isArrow, type Arrow } from "./walk";

const places: Record<string, { x: number; y: number }> = {
  drop: { x: 0, y: 50 },
  split: { x: 100, y: 50 },
  stamp: { x: 100, y: 90 },
  weigh: { x: 100, y: 200 },
  rows: { x: 200, y: 10 },
  queue: { x: 200, y: 60 },
};
const links = [
  { from: "drop", to: "split" },
  { from: "drop", to: "stamp" },
  { from: "split", to: "rows" },
  { from: "split", to: "queue" },
  { from: "weigh", to: "queue" },
  { from: "stamp", to: "stamp" },
];
const to = (from: string, arrow: Arrow) => alongLinks(from, arrow, links, (n) => places[n]);

test("arrows lead along links, to what stands most level", () => {
  expect(to("drop", "ArrowRight")).toBe("split");
  expect(to("split", "ArrowRight")).toBe("queue");
  expect(to("queue", "ArrowLeft")).toBe("split");
  expect(to("drop", "ArrowLeft")).toBeUndefined();
  expect(to("stamp", "ArrowRight")).toBeUndefined(); // it leads to itself
});

test("up and down lead to what is linked to the same neighbour", () => {
  expect(to("split", "ArrowDown")).toBe("stamp");
  expect(to("stamp", "ArrowUp")).toBe("split");
  expect(to("weigh", "ArrowUp")).toBe("split"); // both lead to the queue
  expect(to("rows", "ArrowDown")).toBe("queue");
  expect(to("rows", "ArrowUp")).toBeUndefined();
});

test("an arrow is known from other keys, and a node without a place leads nowhere", () => {
  expect(isArrow("ArrowUp")).toBe(true);
  expect(isArrow("Enter")).toBe(false);
  expect(alongLinks("drop", "ArrowRight", links, () => undefined)).toBeUndefined();
});
