import type { Schemas } from "./api";
import { number } from "./format";

type Availability = Schemas["CheckAvailability"];
type Field = "lost_per_year" | "parked_per_year" | "late_per_year" | "returned_per_year";

/** The entries whose messages meet a node that states its breakdowns, by name. */
export function entriesWithBreakdowns(check: Schemas["CheckDocument"] | null | undefined) {
  const rows: { entry: string; a: Availability }[] = [];
  for (const [entry, e] of Object.entries(check?.entries ?? {}).sort(([x], [y]) => x.localeCompare(y))) {
    const a = e.availability;
    if (a && (a.lost_per_year === null || (a.by ?? []).length > 0)) rows.push({ entry, a });
  }
  return rows;
}

/** A number of messages in a year, marked where it is no exact result. */
export function perYear(a: { [field in Field]?: number | null } & { basis?: Record<string, string> }, field: Field) {
  const mark = { estimate: "~ ", at_most: "≤ ", at_least: "≥ " }[a.basis?.[field] ?? ""] ?? "";
  return mark + number(a[field] ?? 0);
}

const parts: [Field, string][] = [
  ["lost_per_year", "lost"],
  ["parked_per_year", "parked"],
  ["late_per_year", "late"],
  ["returned_per_year", "answered with an error"],
];

/** What each breakdown does, or two that overlap: "mail-relay: 4,085 parked, 5,000 late". */
export function contributions(a: Availability): string[] {
  return (a.by ?? []).map((c) => {
    const done = parts.filter(([field]) => c[field] >= 0.005).map(([field, word]) => `${number(c[field])} ${word}`);
    const who = (c.faults ?? []).join(" and ") + ((c.faults ?? []).length > 1 ? " down at the same time" : "");
    return `${who}: ${done.join(", ") || "under one message in a hundred years"}`;
  });
}

/** An improvement as a remedy that the workbench can apply. */
export const asPatch = (c: Schemas["CheckImprovement"]): Schemas["CheckRemedy"] => ({ say: c.say, patch: c.patch });
