import { expect, test } from "vitest";
import type { Board } from "./api";
import { between, seenFrom } from "./ways";

const link = (from: string, to: string, reach = "certain") =>
  ({ id: `${from}:${to}`, from, to, reach, stroke: "delivery", label: "", line: 1 }) as Board["links"][number];
const board = {
  nodes: [],
  links: [link("a", "b"), link("b", "c"), link("c", "b"), link("x", "b"), link("c", "d", "impossible")],
} as unknown as Board;

test("around a node are its neighbours", () => {
  expect(seenFrom(board, "b", "around")).toEqual({
    nodes: new Set(["b", "a", "c", "x"]),
    links: new Set(["a:b", "b:c", "c:b", "x:b"]),
  });
});
test("onward is what a message can come to, round loops and not along what nothing takes", () => {
  expect(seenFrom(board, "a", "onward")).toEqual({
    nodes: new Set(["a", "b", "c"]),
    links: new Set(["a:b", "b:c", "c:b"]),
  });
});
test("back is what can lead there", () => {
  expect(seenFrom(board, "c", "back").nodes).toEqual(new Set(["c", "b", "a", "x"]));
});
test("between two nodes are the paths from one to the other", () => {
  expect(between(board, "a", "c")).toEqual({ nodes: new Set(["a", "b", "c"]), links: new Set(["a:b", "b:c", "c:b"]) });
  expect(between(board, "a", "d").links).toEqual(new Set());
});
