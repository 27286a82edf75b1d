import { expect, test } from "vitest";
import { freeName, lineOf, patchAt, valueAt, valueOf } from "./written";

test("what is written comes back as it was", () => {
  for (const [value, form] of [
    ["90s", "duration"], [5, "whole"], [["a", "b"], "words"], ["inbound/", "words"], [{ dist: "lognormal", p50: "400ms", p95: "1.2s" }, "distribution"],
    ["event.data.kg > 40, or so", "expression"], [{ "each-try": "5%" }, "anything"], ["grouped", "choice"], ["$lanes", "whole"],
  ] as const)
    expect(valueOf(lineOf(value), form)).toEqual(value);
});

test("an empty line takes the field away", () => expect(valueOf("  ", "duration")).toBeNull());

test("paths reach into maps", () => {
  expect(valueAt({ read: { "up-to": 10 } }, "read.up-to")).toBe(10);
  expect(valueAt({}, "read.up-to")).toBeUndefined();
  expect(patchAt(["nodes", "q", "lease"], "30s")).toEqual({ nodes: { q: { lease: "30s" } } });
});

test("a name that is taken gets a number", () => {
  expect(freeName("q", [])).toBe("q");
  expect(freeName("q", ["q", "q-2"])).toBe("q-3");
});
