import { readFileSync } from "node:fs";
import createDOMPurify from "dompurify";
import mermaid from "mermaid";
import { expect, test } from "vitest";

// Labels are cleaned in a browser only; here the grammar counts.
Object.assign(createDOMPurify, { addHook: () => {}, sanitize: (text: string) => text });

// What `draw -format mermaid` writes is held against Mermaid's own parser.
test("Mermaid reads the drawing of the demo", async () => {
  const text = readFileSync("../cmd/ironweir/testdata/golden/mermaid.txt", "utf8");
  expect((await mermaid.parse(text)).diagramType).toContain("flowchart");
  await expect(mermaid.parse(text.replace("flowchart LR", 'flowchart LR\n  n0["open'))).rejects.toThrow();
});
