import { expect, test } from "vitest";
import { duration } from "./format";
import { condition, delayWords, destinationWords, effectWords, orderWords, reasonsOf } from "./guarantees";

const guarantee = {
  from: "axle-scale",
  to: "lane-weights",
  reaches: "certain",
  survives: 0,
  searched: 3,
  effects: { no_fault: "exactly_once", one_fault: "at_most_once" },
  losses: [{ fault: "scale:lane/disabled, scale:lane/stopped", node: "scale", link: "scale:lane", why: "expired" }],
  repeats: [{ node: "lane", why: "the lease of `q` ends" }],
  parks: [{ node: "desk", fault: true }],
  order: { kept: true, by: ["event.data.lane"] },
  delay: { typical_s: 0.3, at_most_s: null, why: "`q` tries without a limit" },
};

test("a guarantee in words", () => {
  expect(effectWords("at_least_once")).toBe("at least once");
  expect(orderWords(guarantee)).toBe("kept by event.data.lane");
  expect(delayWords(guarantee)).toBe("300 ms, no bound");
  expect(destinationWords(guarantee)).toBe("lane-weights");
  expect(destinationWords({ ...guarantee, to: "axle-scale" })).toBe("its answer");
  expect(delayWords({ ...guarantee, delay: { typical_s: 2, at_most_s: 60, why: "" } })).toBe(
    `${duration(2)}, at most ${duration(60)}`,
  );
});

test("the faults of a reason are named by what happens", () => {
  expect(condition()).toBe("without a fault");
  expect(condition("registry")).toBe("if registry fails");
  expect(condition("closing/crash")).toBe("if closing crashes");
  expect(condition("q:f/disabled, q:f/stopped")).toBe("if q:f is disabled or stopped");
});

test("the reasons come by what they are about", () => {
  expect(reasonsOf(guarantee)).toEqual([
    [
      "Lost",
      [{ text: "scale:lane: expired if scale:lane is disabled or stopped", statement: { what: "lost", at: 0 } }],
    ],
    [
      "Repeated",
      [{ text: "lane again, without a fault: the lease of q ends", statement: { what: "repeated", at: 0 } }],
    ],
    ["Parked", [{ text: "in desk, under a fault" }]],
    ["No bound", [{ text: "q tries without a limit" }]],
  ]);
});
