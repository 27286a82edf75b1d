import { expect, test } from "vitest";
import { patchLines } from "./patch-lines";

const model = {
  nodes: { stamp: { kind: "function", links: { "manifest-drop": { key: "inbound/{stem}.pdf" } } }, old: {} },
};

test("a patch says what was there and what will be", () => {
  expect(patchLines(model, { nodes: { stamp: { links: { "manifest-drop": { key: "derived/{name}" } } } } })).toEqual([
    { path: "nodes.stamp.links.manifest-drop.key", before: "inbound/{stem}.pdf", after: "derived/{name}" },
  ]);
});

test("what is added is one line, and so is what is removed", () => {
  expect(patchLines(model, { nodes: { spill: { kind: "queue" }, old: null, stamp: { hops: 3 } } })).toEqual([
    { path: "nodes.spill", before: undefined, after: "{ kind: queue }" },
    { path: "nodes.old", before: "{}", after: undefined },
    { path: "nodes.stamp.hops", before: undefined, after: "3" },
  ]);
});

test("nothing changes nothing", () => {
  expect(patchLines(model, {})).toEqual([]);
});
