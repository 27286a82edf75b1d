import { expect, test } from "vitest";
import type { Result } from "./api";
import { during, marksOf, metBy, secondsOf } from "./marks";

const result = {
  length_s: 43200,
  alarms: {
    "clearing-late": { fired: true, count: 2, first: { state: "at", s: 11000 } },
    quiet: { fired: false, count: 0, first: { state: "never" } },
  },
} as unknown as Result;

test("durations are read as the scenario writes them", () => {
  expect(["90s", "1h30m", "25m", "1.5h", "200ms", "2d"].map(secondsOf)).toEqual([90, 5400, 1500, 5400, 0.2, 172800]);
  expect(["", "soon", "3 apples", "1h soon"].map(secondsOf)).toEqual([undefined, undefined, undefined, undefined]);
});

test("incidents and alarms stand in the order of time", () => {
  const scenario = `incidents:
  slow: {at: 6h, for: 30m, node: clear, slow: 3}
  down: {at: 3h, for: 25m, node: registry, fails: 100%}
  worked-off: {at: 9h, send-back: {from: desk, to: queue}}
  never: {at: 20h, node: clear, crash: true}
`;
  const marks = marksOf(scenario, result);
  expect(marks.map((m) => [m.name, m.kind, m.from, m.until])).toEqual([
    ["down", "incident", 10800, 12300],
    ["clearing-late", "alarm", 11000, 11000],
    ["slow", "incident", 21600, 23400],
    ["worked-off", "incident", 32400, 32400],
  ]);
  expect(marks[0].words).toBe("registry fails 100%");
  expect(marks[3].words).toBe("send-back");
  expect(during(marks, 12000, 120).map((m) => m.name)).toEqual(["down"]);
  expect(during(marks, 12400, 120).map((m) => m.name)).toEqual(["down"]); // it ended a step ago
  expect(during(marks, 13000, 120)).toEqual([]);
});

test("a journey met the incidents at its nodes until it ended badly", () => {
  const scenario = `incidents:
  down: {at: 1h, for: 10m, node: registry, fails: 100%}
  paused: {at: 1h, for: 10m, link: "queue:clear", paused: true}
  evening: {at: 1h, for: 10m, group: {owner: port}, fails: 10%}
`;
  const marks = marksOf(scenario, result);
  const met = (tried_s: number, ended_s: number | null, ...nodes: string[]) =>
    metBy(marks, { tried_s, ended_s, nodes }).map((m) => m.name);
  expect(met(3000, 3700, "queue", "registry")).toEqual(["down", "paused", "evening"]);
  expect(met(3000, 3700, "lamp")).toEqual(["evening"]);
  expect(met(3000, 3500, "registry"), "it had ended before").toEqual([]);
  expect(met(4200, 9000, "registry"), "it came after").toEqual([]);
  expect(met(3000, null, "registry")).toEqual([]);
});

test("a scenario without incidents has none", () => {
  expect(marksOf("", { ...result, alarms: {} } as Result)).toEqual([]);
});
