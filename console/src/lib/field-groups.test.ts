import { expect, test } from "vitest";
import { groupFields } from "./field-groups";
import type { CatalogueField } from "./written";

const field = (path: string, group: string) => ({ path, group }) as CatalogueField;

test("fields stand under their headings, those that are set first", () => {
  const fields = [
    field("retry.tries", "Failure"),
    field("about", "General"),
    field("owner", "General"),
    field("lease", "Reading"),
  ];
  const groups = groupFields(fields, (f) => f.path === "owner" || f.path === "lease");
  expect(groups.map((g) => [g.name, g.fields.map((f) => f.path), g.set])).toEqual([
    ["General", ["owner", "about"], 1],
    ["Reading", ["lease"], 1],
    ["Failure", ["retry.tries"], 0],
  ]);
});
