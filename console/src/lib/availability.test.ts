import { expect, test } from "vitest";
import type { Schemas } from "./api";
import { contributions, entriesWithBreakdowns, perYear } from "./availability";

const a: Schemas["CheckAvailability"] = {
  lost_per_year: 0,
  parked_per_year: 1234.5,
  late_per_year: 2.345,
  returned_per_year: 0,
  by: [
    { faults: ["relay"], lost_per_year: 0, parked_per_year: 1234, late_per_year: 2.345, returned_per_year: 0 },
    { faults: ["relay", "desk"], lost_per_year: 0.001, parked_per_year: 0, late_per_year: 0, returned_per_year: 0 },
  ],
  improvements: [],
  basis: { parked_per_year: "estimate" },
};

test("numbers of a year are marked where they are estimates", () => {
  expect(perYear(a, "parked_per_year")).toMatch(/^~ 1.?23[45]$/);
  expect(perYear(a, "late_per_year")).toBe("2.35");
});

test("each breakdown is named with what it does", () => {
  expect(contributions(a)[0]).toMatch(/^relay: 1.?234 parked, 2.35 late$/);
  expect(contributions(a)[1]).toBe("relay and desk down at the same time: under one message in a hundred years");
});

test("entries that no breakdown touches are left out", () => {
  const entries = { b: { availability: a }, a: {}, c: { availability: { ...a, by: [] } } };
  const check = { entries } as unknown as Schemas["CheckDocument"];
  expect(entriesWithBreakdowns(check).map((r) => r.entry)).toEqual(["b"]);
});
