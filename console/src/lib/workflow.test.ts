import { readFileSync } from "node:fs";
import { Classes } from "@serverlessworkflow/sdk";
import { expect, test } from "vitest";

// The workflow document of the demo, which `convert -to model` reads, is held against the DSL's own schema.
test("the workflow document of the demo is valid", () => {
  const text = readFileSync("../demo/import/sailing-close.workflow.yaml", "utf8");
  expect(() => Classes.Workflow.deserialize(text).validate()).not.toThrow();
  const wrong = text.replace(/^do:/m, "does:");
  expect(() => Classes.Workflow.deserialize(wrong).validate()).toThrow("invalid");
});
