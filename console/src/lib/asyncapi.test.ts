import { readdirSync, readFileSync } from "node:fs";
import { Parser } from "@asyncapi/parser";
import { expect, test } from "vitest";

// What `convert -to asyncapi` writes is held against the public parser.
const folder = "../formats/asyncapi/testdata/";
const files = readdirSync(folder)
  .filter((f) => f.endsWith(".yaml"))
  .map((f) => folder + f);

for (const file of [...files, "../demo/import/harbour-lamps.asyncapi.yaml"]) {
  test(`the AsyncAPI parser reads ${file}`, async () => {
    const { document, diagnostics } = await new Parser().parse(readFileSync(file, "utf8"));
    expect(diagnostics.filter((d) => d.severity === 0).map((d) => `${d.path.join(".")}: ${d.message}`)).toEqual([]);
    expect(document?.allChannels().all().length).toBeGreaterThan(0);
  });
}
