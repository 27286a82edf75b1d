import type { Schemas } from "./api";

const few = 4; // names of a kind; further ones are counted

/** What differs between two models, in a sentence: "Added mail; changed stamping and mail:relay." */
export function changed(c: Schemas["Changes"]): string {
  const parts: [string, string[]][] = [
    ["added", [...(c.nodes_added ?? []), ...(c.links_added ?? [])]],
    ["removed", [...(c.nodes_removed ?? []), ...(c.links_removed ?? [])]],
    [
      "changed",
      [...Object.keys(c.nodes ?? {}), ...Object.keys(c.links ?? {}), ...(c.settings ?? []).map((s) => s.path)],
    ],
  ];
  const words = parts.filter(([, names]) => names.length > 0).map(([what, names]) => `${what} ${listed(names)}`);
  if (words.length === 0) return "Only comments or layout differ.";
  const sentence = words.join("; ");
  return sentence[0].toUpperCase() + sentence.slice(1) + ".";
}

function listed(names: string[]): string {
  const shown = names.slice(0, few);
  if (names.length > few) return `${shown.join(", ")} and ${names.length - few} more`;
  return shown.length < 2 ? shown.join("") : `${shown.slice(0, -1).join(", ")} and ${shown.at(-1)}`;
}
