import { parseDocument } from "yaml";
import type { Result, Schemas } from "./api";

/** A stretch of a run that has a name: an incident, or an alarm from when it first went off. */
export interface Mark {
  name: string;
  kind: "incident" | "alarm";
  from: number; // seconds since the start of the run
  until: number; // the same as from where it is an instant
  words: string;
  on?: string; // the node whose incident it is, or the one whose link; absent: it is of several
}

const units: Record<string, number> = { ms: 0.001, s: 1, m: 60, h: 3600, d: 86400, w: 604800 };

/** A duration such as 1h30m, in seconds; undefined: it is none. */
export function secondsOf(text: string): number | undefined {
  const parts = [...text.trim().matchAll(/(\d+(?:\.\d+)?)(ms|[smhdw])/g)];
  if (!parts.length || parts.map((p) => p[0]).join("") !== text.trim()) return undefined;
  return parts.reduce((sum, [, n, unit]) => sum + Number(n) * units[unit], 0);
}

type Incident = Record<string, unknown>;

/** What happens in a run, in the order of time: the incidents of its scenario, and the alarms that went off. */
export function marksOf(scenario: string, result: Result): Mark[] {
  const read = parseDocument(scenario).toJS() as { incidents?: Record<string, Incident> } | null;
  const incidents = Object.entries(read?.incidents ?? {}).flatMap(([name, i]): Mark[] => {
    const from = secondsOf(String(i?.at ?? ""));
    if (from === undefined) return [];
    const lasts = secondsOf(String(i.for ?? "")) ?? 0;
    const does = Object.entries(i).filter(([key]) => !["at", "for", "node", "link", "group"].includes(key));
    const on = String(i.node ?? i.link ?? i.group ?? "");
    const node = i.group === undefined && on ? on.split(":")[0] : undefined;
    const words = [on, ...does.map(([key, v]) => (typeof v === "object" ? key : `${key} ${v}`))].join(" ").trim();
    return [{ name, kind: "incident", from, until: Math.min(from + lasts, result.length_s), words, on: node }];
  });
  const alarms = Object.entries(result.alarms)
    .filter(([, a]) => a.fired && a.first.s !== undefined)
    .map(([name, a]): Mark => ({
      name,
      kind: "alarm",
      from: a.first.s!,
      until: a.first.s!,
      words: `went off ${a.count} ${a.count === 1 ? "time" : "times"}, at first then`,
    }));
  return [...incidents, ...alarms].filter((m) => m.from <= result.length_s).sort((a, b) => a.from - b.from);
}

/** The incidents that what ended badly of a journey met: at nodes that the journey came to, while it was held there. */
export const metBy = (marks: Mark[], j: Pick<Schemas["JourneyLine"], "tried_s" | "ended_s" | "nodes">): Mark[] =>
  j.ended_s === null || j.tried_s === null
    ? []
    : marks.filter(
        (m) =>
          m.kind === "incident" &&
          m.from <= j.ended_s! &&
          j.tried_s! < m.until &&
          (m.on === undefined || (j.nodes ?? []).includes(m.on)),
      );

/** The incidents during which an instant lies, or that ended shortly before it. */
export const during = (marks: Mark[], at: number, step: number): Mark[] =>
  marks.filter((m) => m.kind === "incident" && m.from < at + step && at < m.until + step);
