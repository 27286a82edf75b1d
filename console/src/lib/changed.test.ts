import { expect, test } from "vitest";
import type { Schemas } from "./api";
import { changed } from "./changed";

type Changes = Schemas["Changes"];
const nothing = {
  nodes_added: [],
  nodes_removed: [],
  links_added: [],
  links_removed: [],
  nodes: {},
  links: {},
  settings: [],
} as unknown as Changes;

test("what differs is named, by what became of it", () => {
  const c = { ...nothing, nodes_added: ["mail"], links_added: ["mail:relay"], nodes: { stamping: {} } };
  expect(changed(c as unknown as Changes)).toBe("Added mail and mail:relay; changed stamping.");
});

test("many names are counted", () => {
  const c = { ...nothing, nodes_removed: ["a", "b", "c", "d", "e", "f"] };
  expect(changed(c as unknown as Changes)).toBe("Removed a, b, c, d and 2 more.");
});

test("a text that differs in its layout alone says so", () => {
  expect(changed(nothing)).toBe("Only comments or layout differ.");
});
