import { expect, test, vi } from "vitest";

vi.mock("elkjs/lib/elk-worker.min.js?worker", () => ({ default: class {} }));
vi.mock("elkjs/lib/elk-api.js", () => ({ default: class {} }));

const { components } = await import("./components");
const { drawnWay, extentOf, nodeHeight, packed, shortened, waiting, widthOf } = await import("./layout");

test("what links join is one group, in the order of the names", () => {
  const links = [
    { from: "a", to: "c" },
    { from: "d", to: "b" },
  ];
  expect(components(["a", "b", "c", "d", "e"], links)).toEqual([["a", "c"], ["b", "d"], ["e"]]);
});

test("boxes are packed and do not overlap", () => {
  const boxes = [
    { width: 100, height: 20 },
    { width: 300, height: 200 },
    { width: 150, height: 20 },
    { width: 100, height: 20 },
  ];
  const places = packed(boxes, 10);
  expect(places[1]).toEqual({ x: 0, y: 0 });
  const size = (at: typeof places) => Math.max(...at.map((p, i) => p.y + boxes[i].height));
  expect(size(packed(boxes, 10, 9))).toBeLessThanOrEqual(200); // a wide board: all beside the tallest
  expect(size(packed(boxes, 10, 0.5))).toBeGreaterThan(200); // a high one: below it
  for (const [i, a] of places.entries())
    for (const [j, b] of places.entries())
      if (i < j)
        expect(
          a.x + boxes[i].width <= b.x ||
            b.x + boxes[j].width <= a.x ||
            a.y + boxes[i].height <= b.y ||
            b.y + boxes[j].height <= a.y,
        ).toBe(true);
});

test("a node is as wide as its name needs, within bounds", () => {
  expect(widthOf("q")).toBe(100);
  expect(widthOf("consignments")).toBeGreaterThan(widthOf("split-list"));
  expect(widthOf("mmmmmmmmmm")).toBeGreaterThan(widthOf("iiiiiiiiii"));
  expect(widthOf("x".repeat(63))).toBe(196);
});

test("a label that is too long is shortened in its middle", () => {
  expect(shortened("{stem}", 58)).toBe("{stem}");
  expect(shortened("consignment.cleared\n×6", 58)).toBe("consi…ared\n×6");
});

test("many parts are packed soon", () => {
  const many = Array.from({ length: 600 }, (_, i) => ({ width: 100 + (i % 9) * 10, height: 42 }));
  const places = packed(many, 26, 1.8);
  const right = Math.max(...places.map((p, i) => p.x + many[i].width));
  const bottom = Math.max(...places.map((p, i) => p.y + many[i].height));
  expect(right / bottom).toBeGreaterThan(1.2);
  expect(right / bottom).toBeLessThan(2.6);
});

test("what is not laid out yet waits below what is", () => {
  const places = new Map([
    ["a", { x: 40, y: 0 }],
    ["b", { x: 240, y: 120 }],
  ]);
  const row = waiting(["a", "new", "b", "newer"], places);
  expect([...row.keys()]).toEqual(["new", "newer"]);
  expect(row.get("new")!.x).toBe(40);
  expect(row.get("newer")!.x).toBeGreaterThan(40 + widthOf("new"));
  for (const p of row.values()) expect(p.y).toBeGreaterThan(120 + nodeHeight);
});

test("a way is drawn with rounded corners, its label at the last stretch or, if that is short, the longest", () => {
  const bent = drawnWay(
    [
      { x: 0, y: 0 },
      { x: 10, y: 0 },
      { x: 10, y: 100 },
      { x: 30, y: 100 },
    ],
    8,
  );
  expect(bent.path).toBe("M0 0L5 0Q10 0 10 5L10 92Q10 100 18 100L30 100");
  expect(bent.label).toEqual({ x: 10, y: 50, width: 58, side: "on", fits: true });
  expect(
    drawnWay([
      { x: 0, y: 0 },
      { x: 0, y: 300 },
      { x: 50, y: 300 },
    ]).label,
  ).toEqual({ x: 25, y: 300, width: 58, side: "above", fits: false });
  // What leads back says so below.
  expect(
    drawnWay([
      { x: 100, y: 0 },
      { x: 0, y: 0 },
    ]).label,
  ).toEqual({ x: 50, y: 0, width: 88, side: "below", fits: true });
  expect(
    drawnWay([
      { x: 0, y: 4 },
      { x: 60, y: 4 },
    ]).path,
  ).toBe("M0 4L60 4");
});

test("a board takes its boxes, and links that keep clear of them by more than the margin", () => {
  const box = { x: 0, y: 0, width: 100, height: 40 };
  expect(extentOf([box, { ...box, x: 200, y: 60 }], [])).toEqual({ x: 0, y: 0, width: 300, height: 100 });
  expect(extentOf([box], [[{ x: -5, y: 20 }]])).toEqual(box);
  const round = [
    { x: -28, y: 20 },
    { x: 50, y: 60 },
  ];
  expect(extentOf([box], [round])).toEqual({ x: -20, y: 0, width: 120, height: 52 });
});
