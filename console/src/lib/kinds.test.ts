import { expect, test } from "vitest";
import { icons } from "./kinds";

test("each kind has an icon of its own", () => {
  const kinds = [
    "bucket",
    "queue",
    "topic",
    "stream",
    "table",
    "schedule",
    "endpoint",
    "workflow",
    "function",
    "outside",
  ];
  expect(Object.keys(icons).sort()).toEqual(kinds.sort());
  expect(new Set(Object.values(icons)).size).toBe(kinds.length);
});
