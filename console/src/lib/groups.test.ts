import { expect, test } from "vitest";
import { groupings, groupsBy, matches } from "./groups";

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

test("a node is found by what it is and by its tags", () => {
  expect(board.nodes.filter((n) => matches(n, "tier=")).map((n) => n.name)).toEqual(["a", "b"]);
  expect(board.nodes.filter((n) => matches(n, " QUAY")).map((n) => n.name)).toEqual(["a"]);
  expect(board.nodes.filter((n) => matches(n, "queue"))).toHaveLength(3);
});
