import { expect, test } from "vitest";
import { countChanges, isSum, ledgers, lessIsBetter, movedMost, onBoard, spoken, written } from "./compared";

const differ = {
  "per_replication.lost": { values: [70456.6, 0], beyond_chance: true },
  "per_replication.parked": { values: [0, 11.4], beyond_chance: true },
  "per_replication.runs": { values: [523800, 21839], beyond_chance: true },
  "ledger.lost.total": { values: [352283, 0], beyond_chance: null },
  "nodes.consignments.lost.total": { values: [0, 12], beyond_chance: null },
  "nodes.consignments.wait_s.p95": { values: [324, 0], beyond_chance: true },
  "nodes.mail.depth.max": { values: [900, 3], beyond_chance: null },
  "nodes.stamping.depth.max": { values: [90, 3], beyond_chance: false },
  "latency.manifest-drop:clear-consignment.p95_s": { values: [30, 31], beyond_chance: true },
};

test("numbers are named as people name them", () => {
  expect(spoken("per_replication.lost")).toEqual({ about: "one replication", what: "lost", unit: "count" });
  expect(spoken("ledger.lost.given_up")).toEqual({ about: "all runs together", what: "lost: given-up", unit: "count" });
  expect(spoken("nodes.mail.wait_s.p95")).toEqual({ about: "mail", what: "wait, p95", unit: "seconds" });
  expect(spoken("nodes.mail.concurrency.max")).toEqual({
    about: "mail",
    what: "concurrent runs, at most",
    unit: "mean",
  });
  expect(spoken("latency.a:b.max_s")).toEqual({ about: "a to b", what: "latency, longest", unit: "seconds" });
  expect(spoken("latency.a:b.count").unit).toBe("count");
  expect(spoken("cost.nodes.mail")).toEqual({ about: "mail", what: "cost", unit: "mean" });
  expect(spoken("alarms.late.first.s")).toEqual({ about: "late", what: "first alarm after", unit: "seconds" });
});

test("numbers are written in their unit", () => {
  expect(written(324, "seconds")).toBe("5 min 24 s");
  expect(written(0.4, "share")).toBe("40.0 %");
  expect(written(null, "count")).toBe("—");
  expect(written(11.4, "count")).toBe("11.4");
});

test("sums over replications are known", () => {
  expect(["nodes.mail.lost.total", "nodes.mail.runs", "links.a:b.copies"].every(isSum)).toBe(true);
  expect(
    ["nodes.mail.depth.max", "nodes.mail.wait_s.p95", "per_replication.lost", "latency.a:b.p95_s"].some(isSum),
  ).toBe(false);
});

test("it is known of which numbers less is better", () => {
  expect(lessIsBetter("per_replication.lost")).toBe(true);
  expect(lessIsBetter("latency.a:b.p95_s")).toBe(true);
  expect(lessIsBetter("per_replication.handled")).toBe(false);
  expect(lessIsBetter("nodes.mail.copies")).toBeUndefined();
});

test("what moved most is listed, what may be chance is not", () => {
  const moved = movedMost(differ, 1, [1, 1]);
  expect(moved.map((m) => [m.says.about, m.says.what, m.better])).toEqual([
    ["one replication", "lost", true],
    ["one replication", "parked", false],
    ["consignments", "lost", false],
    ["consignments", "wait, p95", true],
    ["mail", "messages in it, at most", true],
    ["manifest-drop to clear-consignment", "latency, p95", false],
  ]);
  expect(movedMost(differ, 1, [1, 1], 2)).toHaveLength(2);
});

test("the board says of a node its main number", () => {
  const { badges, marks } = onBoard(differ, 1, [1, 3]);
  expect(badges.get("consignments")).toEqual({ text: "lost 0 → 4", full: 0, state: "worse" });
  expect(badges.get("mail")?.state).toBe("better");
  expect([...marks]).toEqual([
    ["consignments", "bad"],
    ["mail", "highlighted"],
  ]);
});

test("the ledgers hold the fates of one replication", () => {
  expect(ledgers(differ).map((r) => r.key)).toEqual(["parked", "lost"]);
});

test("changes of a model are counted", () => {
  const field = { path: "lease", before: "30s", after: "5m" };
  expect(countChanges(null)).toBe(0);
  expect(
    countChanges({
      nodes: { mail: [field, field] },
      links: {},
      settings: [field],
      nodes_added: ["aside"],
      nodes_removed: [],
      links_added: null,
      links_removed: ["mail:relay"],
    } as never),
  ).toBe(5);
});
