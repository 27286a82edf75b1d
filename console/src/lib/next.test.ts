import { describe, expect, test } from "vitest";
import type { Finding, Schemas } from "./api";
import { decisive, remediable, weakest, type Input } from "./next";

const pair = (to: string, survives: number, no_fault: string, one_fault: string) =>
  ({
    from: "orders",
    to,
    survives,
    effects: { no_fault, one_fault },
    losses: [],
  }) as unknown as Schemas["CheckGuarantee"];
const input = (path: string, size: number, turns_at: string | null = null): Input => ({
  path,
  range: ["1s", "9s"],
  effect: { mean: size, size },
  turns_at,
});

describe("what next", () => {
  test("the weakest guarantee loses without a fault, or survives the fewest", () => {
    const all = [
      pair("ledger", 1, "exactly_once", "at_least_once"),
      pair("mail", 0, "exactly_once", "at_most_once"),
      pair("archive", 0, "at_most_once", "at_most_once"),
    ];
    expect(weakest(all)?.to).toBe("archive");
    expect(weakest(all.slice(0, 2))?.to).toBe("mail");
    expect(weakest([])).toBeUndefined();
    const answer = { ...pair("orders", 0, "at_most_once", "at_most_once"), answer: true };
    expect(weakest([answer, all[0]])?.to).toBe("ledger");
  });

  test("the change is one of a finding that is not accepted", () => {
    const all = [
      { id: "1", accepted: { because: "known" }, remedies: [{}] },
      { id: "2", accepted: null, remedies: [] },
      { id: "3", accepted: null, remedies: [{}] },
    ] as unknown as Finding[];
    expect(remediable(all)?.id).toBe("3");
  });

  test("the guess to measure is one at which an expectation turns, before one that only matters much", () => {
    const document = {
      of: "lost == 0",
      inputs: [input("nodes.mail.takes", 4), input("nodes.tides.fails", 0)],
      others: [{ of: "p99 < 9", inputs: [input("nodes.registry.takes", 0.2, "3s"), input("nodes.mail.takes", 0.1)] }],
    };
    expect(decisive(document)?.input.path).toBe("nodes.registry.takes");
    expect(decisive({ of: "lost == 0", inputs: document.inputs })?.input.path).toBe("nodes.mail.takes");
    expect(decisive({ of: "lost == 0", inputs: [input("nodes.mail.takes", 0)] })).toBeUndefined();
  });
});
