import { describe, expect, test } from "vitest";
import type { Finding } from "./api";
import { findingMatches, firstRemedies, groupFindings } from "./finding-groups";

const finding = (id: string, over: Partial<Finding> = {}): Finding => ({
  id,
  code: "IW202",
  title: "Single point of loss",
  message: `if \`${id}\` fails, messages are lost`,
  severity: "warning",
  nodes: [id],
  links: [],
  owners: [],
  evidence: { cause: "exhausted" },
  position: { line: 1, column: 1, file: "" } as Finding["position"],
  accepted: null,
  remedies: [{ say: `Add a dead-letter queue to \`${id}\``, patch: { nodes: { [id]: { "dead-letter": "parked" } } } }],
  ...over,
});

describe("findings of one cause stand together", () => {
  const all = [
    finding("weigh"),
    finding("loop", { code: "IW101", title: "Loop", severity: "error", evidence: {} }),
    finding("stamp", { evidence: { cause: "expired" } }),
    finding("book"),
    finding("old", { accepted: { because: "known" } as Finding["accepted"] }),
  ];

  test("by rule, cause and severity, in the order in which they came", () => {
    expect(groupFindings(all).map((g) => [g.title, g.findings.map((f) => f.id)])).toEqual([
      ["Single point of loss: the tries are exhausted, and there is no dead-letter queue", ["weigh", "book"]],
      ["Loop", ["loop"]],
      ["Single point of loss: the retention ends first", ["stamp"]],
      ["Single point of loss: the tries are exhausted, and there is no dead-letter queue", ["old"]],
    ]);
  });

  test("apply to all takes the first remedy of each, each once, and none of what is accepted", () => {
    const twice = [finding("weigh"), finding("weigh"), finding("none", { remedies: [] }), all[4]];
    expect(firstRemedies(twice).map((r) => r.say)).toEqual(["Add a dead-letter queue to `weigh`"]);
  });

  test("are found by rule, words and nodes", () => {
    expect(all.filter((f) => findingMatches(f, " iw101 ")).map((f) => f.id)).toEqual(["loop"]);
    expect(all.filter((f) => findingMatches(f, "BOOK")).map((f) => f.id)).toEqual(["book"]);
    expect(all.filter((f) => findingMatches(f, "nowhere"))).toEqual([]);
  });
});
