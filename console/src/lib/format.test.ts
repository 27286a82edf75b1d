import { expect, test } from "vitest";
import { counted, duration, fates, rate, share } from "./format";

test("times read in the unit that fits", () => {
  expect(duration(0)).toBe("0 s");
  expect(duration(0.0123)).toBe("12 ms");
  expect(duration(3.456)).toBe("3.46 s");
  expect(duration(59.96)).toBe("60.0 s");
  expect(duration(60)).toBe("1 min");
  expect(duration(125)).toBe("2 min 5 s");
  expect(duration(7260)).toBe("2 h 1 min");
  expect(duration(90000)).toBe("1 d 1 h");
});

test("counts are of all replications, or the mean of one", () => {
  expect(counted(12049, 1)).toBe("12,049");
  expect(counted(12049, 3)).toBe("4,016.3");
  expect(counted(100, 3)).toBe("33.3");
  expect(counted(0, 3)).toBe("0");
});

test("small shares keep two digits", () => {
  expect(share(0)).toBe("0 %");
  expect(share(0.00012)).toBe("0.012 %");
  expect(share(0.5)).toBe("50.0 %");
  expect(share(1e-7)).toBe("under 0.0001 %");
  expect(share(0.9999969)).toBe("99.9996 %");
  expect(share(1 - 1e-7)).toBe("over 99.9999 %");
  expect(share(1)).toBe("100.0 %");
});

test("every fate is listed once", () => {
  expect(new Set(fates.map((f) => f.key)).size).toBe(fates.length);
});

test("a rate is told in the unit in which it reads best", () => {
  expect([0, 250, 3.25, 0.5, 1 / 60, 0.01, 1 / 7200, 1 / 864000].map(rate)).toEqual([
    "0/h",
    "250/s",
    "3.3/s",
    "30/min",
    "1/min",
    "36/h",
    "12/d",
    "0.1/d",
  ]);
});
