import { expect, test } from "vitest";
import { badge, clock, inForce, instant, type LiveNode } from "./live";

const quiet: LiveNode = {
  copies: 0,
  depth: 0,
  running: 0,
  runs: 0,
  failures: 0,
  throttled: 0,
  handled: 0,
  parked: 0,
  lost: 0,
  oldest_s: 0,
};

test("an instant is written and read as a clock shows it", () => {
  expect(clock(3725.9)).toBe("01:02:05");
  expect(instant("01:02:05")).toBe(3725);
  expect(instant("2:30")).toBe(150);
  expect(instant("7.5")).toBe(7.5);
  expect(instant("")).toBeUndefined();
  expect(instant("1:x")).toBeUndefined();
  expect(instant("1:2:3:4")).toBeUndefined();
});

test("what is active comes first on the board", () => {
  expect(inForce({ ...quiet, fails: 1 })).toEqual(["failing"]);
  expect(inForce({ ...quiet, fails: 0.5, slow: 3 })).toEqual(["fails 50 %", "3× slow"]);
  expect(badge({ ...quiet, fails: 1, runs: 4 }, undefined, { kind: "function" }, 0)).toEqual({
    text: "failing, 4 runs",
    full: 0,
    state: "failing",
    waits: 0,
  });
  const queued = (depth: number, more = {}) =>
    badge({ ...quiet, depth, ...more }, quiet, { kind: "queue", capacity: 8 }, 10);
  expect(queued(5)).toEqual({ text: "5 queued", full: 0.5, state: "", waits: 5 });
  expect(queued(8).state).toBe("full");
  expect(queued(0).text).toBe("queue");
  expect(queued(1, { throttled: 2 }).state, "some were turned away since").toBe("full");
});
