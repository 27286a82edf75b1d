import { expect, test } from "vitest";
import type { State } from "./live";
import { movementsBetween, movementsOfSeries, movementsOfSteps, dots, waitingDots } from "./motion";
import type { Step } from "./steps";

const step = (id: number, parent: number, what: string, node: string, link = "") =>
  ({ id, parent, t_s: 0, what, node, link }) as Step;

test("a message goes along each link once, however its steps are told", () => {
  const steps = [
    step(1, 0, "enters", "drop"),
    step(2, 1, "offered", "drop", "drop:split"), // pushed: it is held there next
    step(3, 2, "held", "split", "drop:split"),
    step(4, 3, "runs", "split"),
    step(5, 4, "sends", "split", "split:queue"),
    step(6, 5, "held", "queue", "split:queue"),
    step(7, 6, "offered", "queue", "queue:clear"), // polled: a reader takes it
    step(8, 6, "runs", "clear"),
    step(9, 8, "calls", "clear", "clear:registry"),
    step(10, 6, "declined", "queue", "queue:other"),
    step(11, 6, "lost", "clear"),
  ];
  const movements = movementsOfSteps(steps, 0, steps.length);
  expect(movements.flatMap((b) => (b.what === "goes" ? [b.link] : []))).toEqual([
    "drop:split",
    "split:queue",
    "queue:clear",
    "clear:registry",
  ]);
  expect(movements.flatMap((b) => (b.what === "runs" ? [b.node] : []))).toEqual(["split", "clear"]);
  expect(movements.at(-1)).toEqual({ what: "lost", node: "clear", many: 1 });
  expect(movementsOfSteps(steps, 3, 4)).toEqual([{ what: "runs", node: "split", many: 1 }]);
});

test("between two states only what is more has moved, and nothing after a rewind", () => {
  const state = (now_s: number, messages: number, lost: number) =>
    ({ now_s, links: { "a:b": { messages } }, nodes: { b: { runs: 1, lost, parked: 0 } } }) as unknown as State;
  expect(movementsBetween(undefined, state(1, 5, 0))).toEqual([]);
  expect(movementsBetween(state(1, 5, 0), state(2, 9, 1))).toEqual([
    { what: "goes", link: "a:b", many: 4 },
    { what: "lost", node: "b", many: 1 },
  ]);
  expect(movementsBetween(state(2, 9, 1), state(1, 12, 4))).toEqual([]);
});

test("a step of a series moves what came along each link in it", () => {
  const series = { step_s: 1, nodes: { b: { runs: [0, 2], lost: [0, 0.5] } }, links: { "a:b": [0, 3], "a:c": null } };
  expect(movementsOfSeries(series as never, 0)).toEqual([]);
  expect(movementsOfSeries(series as never, 1)).toEqual([
    { what: "goes", link: "a:b", many: 3 },
    { what: "runs", node: "b", many: 2 },
    { what: "lost", node: "b", many: 0.5 },
  ]);
  expect(movementsOfSeries(undefined, 1)).toEqual([]);
});

test("a queue grows by a dot for each message, then for each doubling", () => {
  expect([0, 0.4, 1, 3, 4, 7, 8, 64, 1e6].map(waitingDots)).toEqual([0, 0, 1, 3, 4, 4, 5, 8, 12]);
});

test("dots grow with each doubling", () => {
  expect([0.2, 1, 2, 3, 8, 1e6].map(dots)).toEqual([1, 1, 2, 2, 4, 6]);
});
