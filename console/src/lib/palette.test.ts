import { describe, expect, test } from "vitest";
import { fits, found, type Command } from "./palette.svelte";

const command = (group: string, text: string, more: Partial<Command> = {}): Command => ({
  group,
  text,
  run: () => {},
  ...more,
});

describe("the palette", () => {
  const all = [
    command("Nodes", "manifest-drop", { hint: "bucket" }),
    command("Nodes", "drop-box", { hint: "queue" }),
    command("Commands", "Undo", { hint: "Ctrl Z" }),
    command("New model", "fan-out", { also: "one topic, several consumers" }),
  ];
  const texts = (looked: string) => found(all, looked).map((c) => c.text);

  test("offers everything while nothing is written", () => {
    expect(texts("")).toHaveLength(all.length);
  });
  test("puts what begins so first", () => {
    expect(texts("drop")).toEqual(["drop-box", "manifest-drop"]);
    expect(fits(all[0], "manifest")).toBe(4);
  });
  test("finds by kind, by need and with the words in any order", () => {
    expect(texts("bucket")).toEqual(["manifest-drop"]);
    expect(texts("several topic")).toEqual(["fan-out"]);
    expect(texts("box drop")).toEqual(["drop-box"]);
  });
  test("offers nothing that does not fit", () => {
    expect(texts("nowhere")).toEqual([]);
  });
});
