import type { Schemas } from "./api";

export type Step = Schemas["Step"];

/** A step as it is shown: how deep below what caused it, and how many equal branches it stands for. */
export interface Row {
  step: Step;
  depth: number;
  times: number;
  last: number; // when the last of the equal branches begins
  left: number; // steps before it that are not recorded
}

const verbs: Record<string, string> = {
  enters: "receives",
  held: "receives",
  offered: "✓",
  declined: "✗",
  runs: "runs",
  calls: "calls",
  ends: "ends",
  sends: "sends",
  waits: "waits",
  returned: "answers",
  parked: "parked in",
  lost: "LOST at",
};

/** What happens in a step, in words. */
export function sentenceOf(s: Step): string {
  const verb = verbs[s.what] ?? s.what;
  const target = (s.link ?? "").slice((s.link ?? "").indexOf(":") + 1);
  const attempt = s.try && s.try > 1 && (s.what === "runs" || s.what === "calls") ? ` (try ${s.try})` : "";
  if (s.what === "offered" || s.what === "declined") return `${verb} ${s.link}`;
  if (s.what === "parked" || s.what === "lost") return `${verb} ${s.node}`;
  if (s.what === "calls") return `${s.node} calls ${target}${attempt}`;
  if (s.what === "returned") return `${s.node} ${s.why}`;
  const fate = s.fate && (s.what === "enters" || s.what === "held") ? ` → ${s.fate.replaceAll("_", "-")}` : "";
  return `${s.node} ${verb}${attempt}${fate}`;
}

/**
 * The steps as a tree, each below what caused it. Of branches side by side that differ in
 * nothing but their times, the first stands for all.
 */
export function fold(steps: Step[]): Row[] {
  const children = new Map<number, Step[]>();
  const left = new Map(steps.map((s, i) => [s.id, i > 0 ? s.id - steps[i - 1].id - 1 : 0]));
  for (const s of steps) children.set(s.parent, [...(children.get(s.parent) ?? []), s]);
  const branches = (parent: number, depth: number): { rows: Row[]; key: string } => {
    const rows: Row[] = [];
    let key = "";
    let before: { head: Row; key: string } | undefined;
    for (const s of children.get(parent) ?? []) {
      const below = branches(s.id, depth + 1);
      const own = `${depth} ${left.get(s.id) || ""} ${sentenceOf(s)} ${s.why ?? ""} ${s.event?.["subject"] ?? ""}\n${below.key}`;
      key += own;
      if (before?.key === own) {
        before.head.times++;
        before.head.last = s.t_s;
        continue;
      }
      const head = { step: s, depth, times: 1, last: s.t_s, left: left.get(s.id) ?? 0 };
      before = { head, key: own };
      rows.push(head, ...below.rows);
    }
    return { rows, key };
  };
  return branches(0, 0).rows;
}
