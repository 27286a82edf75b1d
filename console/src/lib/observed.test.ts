import { describe, expect, it } from "vitest";
import type { Schemas } from "./api";
import { badges, brief, byHour, lists, boardMarks, type Comparison } from "./observed";

const number = (node: string, what: string, model: number, observed: number, differs: boolean) => ({
  node,
  what,
  model,
  observed,
  differs,
  interval: [observed, observed] as [number, number],
  seen: 100,
});

const compared: Comparison = {
  drift: {
    not_modelled: { nodes: ["archive"], links: ["tickets:printer"] },
    not_observed: { nodes: ["siren"], links: [] },
    different: [number("axle-scale", "fails", 0.1, 0.25, true)],
  },
  numbers: [
    number("axle-scale", "takes_mean_s", 2, 2.05, false),
    number("axle-scale", "fails", 0.1, 0.25, true),
    number("printer", "takes_mean_s", 0.2, 0.2, false),
  ],
  patch: {},
  comments: [],
};

describe("what was observed", () => {
  it("stands on the board, the number that differs first", () => {
    const on = badges(compared);
    expect(on.get("axle-scale")).toEqual({ text: "25% ≠ 10%", full: 0, state: "differs" });
    expect(on.get("printer")?.text).toBe("≈ 200ms");
    expect(on.get("siren")?.text).toBe("not seen");
  });
  it("is written briefly there, in its unit", () => {
    expect([0, 0.0123, 2.04, 90, 7200].map((s) => brief("takes_mean_s", s))).toEqual([
      "0s",
      "12ms",
      "2s",
      "1.5m",
      "2h",
    ]);
    expect(brief("fails", 0.0123)).toBe("1.2%");
  });
  it("marks what differs, and leaves dim what was not seen", () => {
    const board = {
      nodes: ["axle-scale", "printer", "siren"].map((name) => ({ name })),
      links: [
        { id: "axle-scale:printer", from: "axle-scale", to: "printer" },
        { id: "printer:siren", from: "printer", to: "siren" },
      ],
    } as unknown as Schemas["Board"];
    const on = boardMarks(compared, board);
    expect(Object.fromEntries(on.nodes)).toEqual({ "axle-scale": "bad", printer: "highlighted", siren: "dim" });
    expect([...on.links]).toEqual(["axle-scale:printer"]);
  });
  it("lists only what there is", () => {
    expect(lists(compared).map(([title]) => title)).toEqual([
      "Observed, not in the model",
      "In the model, not observed",
    ]);
    expect(lists({ ...compared, drift: { ...compared.drift, not_observed: { nodes: [], links: [] } } })).toHaveLength(
      1,
    );
  });
  it("has an hour for each hour of the day, also where nothing came", () => {
    const hours = byHour([
      { hour: "2026-11-30T03:00:00Z", spans: 10, refused: 0 },
      { hour: "2026-11-30T05:00:00Z", spans: 20, refused: 20 },
    ]);
    expect(hours).toHaveLength(24);
    expect(hours.slice(-3).map((h) => [h.spans, h.refused])).toEqual([
      [10, 0],
      [0, 0],
      [20, 20],
    ]);
    expect(hours[23].share).toBe(0.5);
    expect(byHour([])).toEqual([]);
  });
});
