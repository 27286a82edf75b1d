import { expect, test } from "vitest";
import { groupings, groupsBy, matches, partsOf, usualGrouping } from "./groups";

const node = (name: string, owner: string, tags: Record<string, string>) => ({
  name,
  kind: "queue",
  role: "holds" as const,
  about: "",
  owner,
  says: "",
  tags,
  line: 1,
});
const board = {
  nodes: [node("a", "quay", { tier: "edge" }), node("b", "", { zone: "north", tier: "core" }), node("c", "", {})],
  links: [],
};

test("nodes are put together by owner and by tag", () => {
  expect(groupings(board)).toEqual(["owner", "tag tier", "tag zone"]);
  expect([...groupsBy(board, "owner")]).toEqual([["a", "quay"]]);
  expect([...groupsBy(board, "tag tier")]).toEqual([
    ["a", "edge"],
    ["b", "core"],
  ]);
  expect(groupings({ nodes: [node("c", "", {})], links: [] })).toEqual([]);
});

test("a large board is grouped by what most of its nodes have, or its parts are named", () => {
  const many = (owner: string) => Array.from({ length: 50 }, (_, i) => node(`n${i}`, i < 30 ? owner : "", {}));
  expect(usualGrouping({ nodes: many("quay"), links: [] })).toBe("owner");
  expect(usualGrouping({ nodes: many(""), links: [] })).toBe("");
  expect(usualGrouping(board)).toBe("");
  const link = (from: string, to: string) => ({ id: `${from}:${to}`, from, to }) as (typeof large.links)[number];
  const large: Parameters<typeof partsOf>[0] = { nodes: many(""), links: [] };
  large.links = [link("n1", "n2"), link("n3", "n2"), link("n2", "n4"), link("n8", "n9")];
  expect(partsOf(large)).toEqual([{ name: "n2 and 3 more", nodes: ["n1", "n2", "n3", "n4"] }]);
  expect(partsOf(board)).toEqual([]);
});

test("a node is found by what it is and by its tags", () => {
  expect(board.nodes.filter((n) => matches(n, "tier=")).map((n) => n.name)).toEqual(["a", "b"]);
  expect(board.nodes.filter((n) => matches(n, " QUAY")).map((n) => n.name)).toEqual(["a"]);
  expect(board.nodes.filter((n) => matches(n, "queue"))).toHaveLength(3);
});
