import { expect, test } from "vitest";
import type { Schemas } from "./api";
import { offersAt, pathAt } from "./complete";

const field = (path: string, form = "text", choices: string[] = [], on: string[] = []) =>
  ({ path, form, choices, default: "", about: path, on }) as Schemas["CatalogueField"];
const catalogue = {
  kinds: [
    {
      kind: "queue",
      about: "waits",
      fields: [field("lease", "duration"), field("order", "choice", ["any", "grouped"])],
    },
    { kind: "function", about: "runs", fields: [field("dead-letter", "node")] },
  ],
  link: [
    field("match.prefix"),
    field("match.suffix"),
    field("read.up-to", "whole", [], ["queue"]),
    field("dead-letter", "node"),
  ],
} as Schemas["Catalogue"];
const document = { nodes: { slip: { kind: "queue" }, stamp: { kind: "function" } } };
const labels = (before: string) => offersAt(before, catalogue, document).map((o) => o.label);

test("the keys that enclose a place are found in blocks and on one line", () => {
  expect(pathAt("nodes:\n  slip:\n    kind: queue\n    le").path).toEqual(["nodes", "slip"]);
  expect(pathAt("nodes:\n  slip: {kind: queue, links: {stamp: {match: {prefix: a, su").path).toEqual([
    "nodes",
    "slip",
    "links",
    "stamp",
    "match",
  ]);
  expect(pathAt("nodes:\n  slip: {kind: queue, links: {stamp: {}}, le").path).toEqual(["nodes", "slip"]);
  expect(pathAt("na").path).toEqual([]);
});

test("fields are offered by kind, with what they are", () => {
  expect(labels("nodes:\n  slip:\n    ")).toEqual(["lease", "order", "links"]);
  expect(labels("nodes:\n  fresh: {")).toEqual(["kind", "links"]);
  expect(labels("nodes:\n  slip: {links: {stamp: {")).toEqual(["match", "read", "dead-letter"]);
  expect(labels("nodes:\n  stamp: {links: {slip: {")).toEqual(["match", "dead-letter"]);
  expect(labels("nodes:\n  slip: {links: {stamp: {match: {")).toEqual(["prefix", "suffix"]);
  expect(labels("nodes:\n  slip:\n    links:\n      ")).toEqual(["slip", "stamp"]);
});

test("values are offered where there are few: kinds, choices, nodes", () => {
  expect(labels("nodes:\n  fresh: {kind: ")).toEqual(["queue", "function"]);
  expect(labels("nodes:\n  slip: {kind: queue, order: ")).toEqual(["any", "grouped"]);
  expect(labels("nodes:\n  stamp: {dead-letter: ")).toEqual(["slip", "stamp"]);
  expect(labels("nodes:\n  slip: {lease: ")).toEqual([]);
  expect(labels("n")).toContain("nodes");
});
