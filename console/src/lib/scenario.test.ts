import { expect, test } from "vitest";
import { readForm, writeField } from "./scenario";

const text = `ironweir: scenario/1
name: evening # a peak
length: 8h
traffic:
  # hauliers
  uploads: {into: drop, rate: 40/h, key: "inbound/{seq}.csv"}
  bursts: {into: drop, rate: 1/h, arrivals: {burst: {on: 5m, off: 25m, rate: 400/h}}}
incidents:
  down: {at: 2h, for: 30m, node: registry, fails: 100%}
  held: {at: 3h, link: "q:f", paused: true}
  back: {at: 4h, send-back: {from: desk, to: q, rate: 5/s}}
expect: {none-lost: run.ledger.lost.total == 0}
`;

test("a form shows what it knows, and says of the rest that the text has it", () => {
  const f = readForm(text)!;
  expect(f.length).toBe("8h");
  expect(f.traffic.map((t) => [t.name, t.into, t.rate, t.arrivals])).toEqual([
    ["uploads", "drop", "40/h", "poisson"],
    ["bursts", "drop", "1/h", ""],
  ]);
  expect(f.incidents.map((i) => [i.name, i.on, i.does, i.value])).toEqual([
    ["down", "registry", "fails", "100%"],
    ["held", "q:f", "paused", "true"],
    ["back", "", "", ""],
  ]);
  expect(f.expect).toEqual([{ name: "none-lost", expression: "run.ledger.lost.total == 0" }]);
  expect(readForm("[1")).toBeUndefined();
  expect(readForm("just text")).toBeUndefined();
});

test("one field is written, and all else stays as it was", () => {
  const now = writeField(text, ["incidents", "down", "for"], "45m");
  expect(now).toBe(text.replace("for: 30m", "for: 45m"));
  expect(writeField(text, ["traffic", "uploads", "key"], "")).toBe(text.replace(', key: "inbound/{seq}.csv"', ""));
  expect(writeField(text, ["replications"], "5")).toBe(text + "replications: 5\n");
});

test("what is new stands on one line of its section", () => {
  expect(writeField(text, ["incidents", "slow"], { at: "1h", node: "f", slow: 5 })).toContain(
    "\n  slow: {at: 1h, node: f, slow: 5}\n",
  );
  expect(writeField("ironweir: scenario/1\nincidents: {}\n", ["incidents", "down"], { at: "1h" })).toBe(
    "ironweir: scenario/1\nincidents:\n  down: {at: 1h}\n",
  );
  expect(writeField("ironweir: scenario/1\n", ["traffic", "a"], { into: "q", rate: "1/s" })).toBe(
    "ironweir: scenario/1\ntraffic:\n  a: {into: q, rate: 1/s}\n",
  );
});
