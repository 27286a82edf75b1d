import { expect, test } from "vitest";
import type { Result } from "./api";
import { flowOf } from "./flow";

const fates = {
  handled: 0,
  stored: 0,
  arrived: 0,
  passed: 0,
  ignored: 0,
  unmatched: 0,
  returned: 0,
  parked: 0,
  waiting: 0,
  running: 0,
  redelivered: 0,
  lost: { total: 0 },
};
const result = {
  latency: {
    "door:work": { count: 90 },
    "door:desk": { count: 10 },
    "tick:work": { count: 5 },
    "door:gone": { count: 3 },
    "door:taker": { count: 7 },
  },
  links: { "slips:taker": { matched: 7 } },
  nodes: {
    door: { ...fates, passed: 100 },
    work: { ...fates, handled: 95, lost: { total: 4 } },
    desk: { ...fates, parked: 10 },
    slips: { ...fates, handled: 7 },
  },
} as unknown as Pick<Result, "latency" | "nodes" | "links">;

test("entries, where copies ended, and as what", () => {
  const { bars, bands } = flowOf(result, 300);
  expect(bars.filter((b) => b.column === 0).map((b) => [b.name, b.amount])).toEqual([
    ["door", 107],
    ["tick", 5],
  ]);
  expect(
    bars
      .filter((b) => b.column === 1)
      .map((b) => b.name)
      .sort(),
  ).toEqual(["desk", "slips", "work"]);
  expect(
    bars
      .filter((b) => b.bad)
      .map((b) => b.name)
      .sort(),
  ).toEqual(["lost", "parked"]);
  expect(bands.find((b) => b.from.name === "work" && b.to.name === "lost")).toMatchObject({ amount: 4, bad: true });
  expect(bands.some((b) => b.to.name === "gone")).toBe(false);
});

test("each column fits, and bands are as wide as what goes along them", () => {
  const { bars, bands } = flowOf(result, 300);
  for (const column of [0, 1, 2])
    expect(Math.max(...bars.filter((b) => b.column === column).map((b) => b.y + b.height))).toBeLessThanOrEqual(
      300.001,
    );
  const [a, b] = [bands.find((x) => x.amount === 90)!, bands.find((x) => x.amount === 10 && x.from.name === "door")!];
  expect(a.width / b.width).toBeCloseTo(9, 6);
  expect(b.y0).toBeGreaterThanOrEqual(a.y0 === b.y0 ? a.y0 : 0);
});

test("of many nodes the smallest are put together", () => {
  const nodes = Object.fromEntries(Array.from({ length: 30 }, (_, i) => [`n${i}`, { ...fates, handled: i + 1 }]));
  const { bars } = flowOf({ latency: {}, nodes } as unknown as Pick<Result, "latency" | "nodes" | "links">, 400);
  expect(bars.filter((b) => b.column === 1)).toHaveLength(15);
  expect(bars.find((b) => b.name === "others")!.amount).toBe(136);
});
