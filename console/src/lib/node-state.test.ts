import { expect, test } from "vitest";
import { inkOf, stateAt, wordOf } from "./node-state";

const calm = { failing: false, lost: 0, depth: 0, throttled: 0, capacity: 0 };

test("a moment has one state, the worst", () => {
  expect(stateAt(calm)).toBe("");
  expect(stateAt({ ...calm, depth: 99 }), "without a limit nothing is full").toBe("");
  expect(stateAt({ ...calm, depth: 99, capacity: 100 })).toBe("");
  expect(stateAt({ ...calm, depth: 100, capacity: 100 })).toBe("full");
  expect(stateAt({ ...calm, throttled: 0.2 })).toBe("full");
  expect(stateAt({ ...calm, throttled: 1, lost: 1 })).toBe("loses");
  expect(stateAt({ ...calm, failing: true, lost: 1 })).toBe("failing");
});

test("each state has a word and a colour of its own meaning", () => {
  for (const [state, ink] of Object.entries(inkOf)) {
    expect(wordOf(state as keyof typeof inkOf) !== "", state).toBe(state !== "");
    expect(ink === "edge").toBe(state === "");
  }
});
