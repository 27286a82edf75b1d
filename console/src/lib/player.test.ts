import { expect, test } from "vitest";
import { litBy, together } from "./player.svelte";
import type { Step } from "./steps";

const step = (id: number, t_s: number, what: string, more: Partial<Step> = {}): Step =>
  ({ id, parent: 0, t_s, node: "weigh", what, ...more }) as Step;

test("steps light what they pass, and mark where something ends badly", () => {
  const { nodes, links, states } = litBy([
    step(1, 0, "enters", { node: "lane" }),
    step(2, 0, "held", { link: "lane:weigh" }),
    step(3, 1, "declined", { link: "lane:spare" }),
    step(4, 1, "ends", { why: "failed: unreadable" }),
    step(5, 2, "runs"),
  ]);
  expect([...links]).toEqual(["lane:weigh"]);
  expect(nodes.get("lane")).toBe("highlighted");
  expect(nodes.get("weigh"), "a later step does not mend it").toBe("bad");
  expect([...states]).toEqual([["weigh", "failing"]]);
});

test("two messages are one list: each keeps its parents, times count from the first", () => {
  const list = together([
    { t_s: 100, steps: [step(1, 100, "enters"), step(2, 109, "ends", { parent: 1 })] },
    { t_s: 104, steps: [step(1, 104, "enters"), step(2, 105, "ends", { parent: 1 })] },
  ]);
  expect(list.map((s) => s.t_s)).toEqual([0, 4, 5, 9]);
  expect(new Set(list.map((s) => s.id)).size).toBe(4);
  expect(list[2].parent).toBe(list[1].id);
  expect(list[0].parent).toBe(0);
  expect(together([{ t_s: 1, steps: null }])).toEqual([]);
});
