import { expect, test } from "vitest";
import { pieces, plain } from "./code";

test("names in backticks are code", () => {
  expect(pieces("if `mail` fails, `q:f` loses")).toEqual([
    { text: "if ", code: false },
    { text: "mail", code: true },
    { text: " fails, ", code: false },
    { text: "q:f", code: true },
    { text: " loses", code: false },
  ]);
  expect(pieces("no names")).toEqual([{ text: "no names", code: false }]);
  expect(plain("add `a` to `b`")).toBe("add a to b");
});
