import { expect, test } from "vitest";
import { copied, freeName, lineOf, pasted, patchAt, valueAt, valueOf, nodeAt } from "./written";

test("what is written comes back as it was", () => {
  for (const [value, form] of [
    ["90s", "duration"],
    [5, "whole"],
    [["a", "b"], "words"],
    ["inbound/", "words"],
    [{ dist: "lognormal", p50: "400ms", p95: "1.2s" }, "distribution"],
    ["event.data.kg > 40, or so", "expression"],
    [{ "each-try": "5%" }, "anything"],
    ["grouped", "choice"],
    ["$lanes", "whole"],
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

test("what is copied is put elsewhere under free names, with the links that have a target there", () => {
  const document = {
    nodes: {
      slip: { kind: "queue", links: { crane: {}, again: { to: "slip" }, yard: {} } },
      crane: { kind: "function" },
    },
  };
  const text = copied("slip", document);
  expect(pasted(text, ["slip", "crane"])).toEqual({
    "slip-2": { kind: "queue", links: { crane: {}, again: { to: "slip-2" } } },
  });
  expect(pasted(text, [])).toEqual({ slip: { kind: "queue", links: { again: { to: "slip" } } } });
  expect(pasted("nodes: {pier: {kind: bucket}}", ["slip"])).toEqual({ pier: { kind: "bucket" } });
  for (const other of ["", "a sentence", "nodes: 3", "nodes: {a: {}}", "{", "nodes: {}"])
    expect(pasted(other, [])).toBeUndefined();
});

test("a line lies in the text of a node, or of none", () => {
  const text = "name: slip\nnodes:\n  a: {kind: queue}\n  # about b\n  b:\n    kind: topic\nalarms:\n  late: {of: a}\n";
  const nodes = [
    { name: "a", line: 3 },
    { name: "b", line: 5 },
  ];
  const at = (line: number) => nodeAt(text, nodes, line);
  expect([1, 2, 3, 4, 5, 6, 7, 8, 9].map(at)).toEqual(["", "", "a", "a", "b", "b", "", "", ""]);
});
