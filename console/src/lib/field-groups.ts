import type { CatalogueField } from "./written";

/** Fields under one heading of a form: those that are set first. */
export interface FieldGroup {
  name: string;
  fields: CatalogueField[];
  set: number; // how many of them
}

const headings: CatalogueField["group"][] = ["General", "Trigger", "Reading", "Failure", "Sends", "Limits and cost"];

/** Fields by heading, in the order of a form; a heading without fields is left out. */
export function groupFields(fields: CatalogueField[], isSet: (f: CatalogueField) => boolean): FieldGroup[] {
  return headings
    .map((name) => {
      const all = fields.filter((f) => f.group === name);
      const set = all.filter(isSet);
      return { name, fields: [...set, ...all.filter((f) => !set.includes(f))], set: set.length };
    })
    .filter((g) => g.fields.length > 0);
}

const key = "ironweir-field-groups";

/** The groups that somebody has opened or closed, kept in this browser. */
export function keptGroups(): Record<string, boolean> {
  return JSON.parse(localStorage.getItem(key) ?? "{}");
}

export function keepGroup(name: string, open: boolean) {
  localStorage.setItem(key, JSON.stringify({ ...keptGroups(), [name]: open }));
}
