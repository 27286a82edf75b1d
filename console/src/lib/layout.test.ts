import { expect, test, vi } from "vitest";

vi.mock("elkjs/lib/elk-worker.min.js?worker", () => ({ default: class {} }));
vi.mock("elkjs/lib/elk-api.js", () => ({ default: class {} }));

const { components, drawnWay, nodeHeight, nodeWidth, shelve, waiting } = await import("./layout");

test("what links join is one group, in the order of the names", () => {
  const links = [
    { from: "a", to: "c" },
    { from: "d", to: "b" },
  ];
  expect(components(["a", "b", "c", "d", "e"], links)).toEqual([["a", "c"], ["b", "d"], ["e"]]);
});

test("boxes stand on shelves and do not overlap", () => {
  const boxes = [
    { width: 100, height: 20 },
    { width: 300, height: 200 },
    { width: 150, height: 20 },
    { width: 100, height: 20 },
  ];
  const places = shelve(boxes, 10);
  expect(places[1]).toEqual({ x: 0, y: 0 });
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

test("what is not laid out yet waits below what is", () => {
  const places = new Map([
    ["a", { x: 40, y: 0 }],
    ["b", { x: 240, y: 120 }],
  ]);
  const row = waiting(["a", "new", "b", "newer"], places);
  expect([...row.keys()]).toEqual(["new", "newer"]);
  expect(row.get("new")!.x).toBe(40);
  expect(row.get("newer")!.x).toBeGreaterThan(40 + nodeWidth);
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
  expect(bent.label).toEqual({ x: 10, y: 50, width: 58, side: "on" });
  expect(
    drawnWay([
      { x: 0, y: 0 },
      { x: 0, y: 300 },
      { x: 50, y: 300 },
    ]).label,
  ).toEqual({ x: 25, y: 300, width: 58, side: "above" });
  // What leads back says so below.
  expect(
    drawnWay([
      { x: 100, y: 0 },
      { x: 0, y: 0 },
    ]).label,
  ).toEqual({ x: 50, y: 0, width: 88, side: "below" });
  expect(
    drawnWay([
      { x: 0, y: 4 },
      { x: 60, y: 4 },
    ]).path,
  ).toBe("M0 4L60 4");
});
