import type { Finding } from "./api";

/** Findings of one cause, in the order in which the first of them stood. */
export interface FindingGroup {
  key: string;
  title: string;
  severity: string;
  findings: Finding[];
}

/** So many findings of one cause are shown as one entry. */
export const many = 3;

/** Causes of loss, as a sentence says them. */
export const causes: Record<string, string> = {
  exhausted: "the tries are exhausted, and there is no dead-letter queue",
  expired: "the retention ends first",
  "given-up": "`give-up` passes, and there is no dead-letter queue",
  rejected: "the write is rejected",
  overflow: "the queue is full",
  "hop-limit": "the hop limit is reached",
};

/** Puts findings of one rule and cause together. Accepted ones come last, on their own. */
export function groupFindings(findings: Finding[]): FindingGroup[] {
  const groups = new Map<string, FindingGroup>();
  for (const f of findings) {
    const cause = typeof f.evidence?.cause === "string" ? f.evidence.cause : "";
    const key = [f.accepted ? "accepted" : f.severity, f.code, cause].join(" ");
    const title = f.title + (causes[cause] ? `: ${causes[cause]}` : "");
    const group = groups.get(key) ?? { key, title, severity: f.accepted ? "accepted" : f.severity, findings: [] };
    group.findings.push(f);
    groups.set(key, group);
  }
  const all = [...groups.values()];
  return [...all.filter((g) => g.severity !== "accepted"), ...all.filter((g) => g.severity === "accepted")];
}

/** Whether a finding fits a search: by its rule, its words or its nodes. */
export function findingMatches(f: Finding, looked: string): boolean {
  const wanted = looked.trim().toLowerCase();
  return [f.code, f.title, f.message, ...f.nodes, ...f.links].some((w) => w.toLowerCase().includes(wanted));
}

/** The first remedy of each finding that has one, each once: what "apply to all" does. */
export function firstRemedies(findings: Finding[]): Finding["remedies"] {
  const seen = new Set<string>();
  return findings
    .filter((f) => !f.accepted)
    .flatMap((f) => f.remedies.slice(0, 1))
    .filter((r) => !seen.has(r.say) && seen.add(r.say));
}
