import type { Schemas } from "./api";
import { count, duration, fates, number, share } from "./format";
import type { Badge } from "./node-state";

type Differences = Schemas["RunComparison"]["differences"];

/** What a number of a result is: what it is about, its name, and how it is written. */
export interface Spoken {
  about: string; // a node, a link, a latency, or the whole
  what: string;
  unit: "count" | "seconds" | "share" | "mean";
}

const fateNames = new Map(fates.map((f) => [f.key, f.label]));
const perTimes: Record<string, string> = {
  wait_s: "wait",
  time_s: "time at it",
  run_time_s: "run time",
};
const names: Record<string, string> = {
  copies: "copies",
  runs: "runs",
  failures: "failed runs",
  redelivered: "delivered again",
  timeouts: "runs that timed out",
  throttled: "throttled",
  cold_starts: "cold starts",
  entered: "messages that entered",
  declined: "declined",
  matched: "taken",
  offered: "offered",
  lost: "lost",
  utilisation: "utilisation",
};
const statistics: Record<string, string> = { mean: "mean", max: "longest", count: "how many" };

/** Names a number as people name it. */
export function spoken(path: string): Spoken {
  const parts = path.split(".");
  const [head] = parts;
  if (head === "per_replication") return { about: "one replication", ...inWords(parts.slice(1)) };
  if (head === "ledger") return { about: "all runs together", ...inWords(parts.slice(1)) };
  if (head === "nodes" || head === "links") return { about: parts[1] ?? "", ...inWords(parts.slice(2)) };
  if (head === "latency") {
    const [from, to] = (parts[1] ?? "").split(":");
    const statistic = (parts[2] ?? "").replace(/_s$/, "");
    if (statistic === "count") return { about: `${from} to ${to}`, what: "arrivals", unit: "count" };
    return { about: `${from} to ${to}`, what: `latency, ${statistics[statistic] ?? statistic}`, unit: "seconds" };
  }
  if (head === "expect") return { about: parts[1] ?? "", what: "runs in which it holds", unit: "count" };
  if (head === "alarms" && parts[2] === "count") return { about: parts[1] ?? "", what: "alarms", unit: "count" };
  if (head === "alarms") return { about: parts[1] ?? "", what: "first alarm after", unit: "seconds" };
  if (head === "first_loss") return { about: "all runs together", what: "first loss after", unit: "seconds" };
  if (head === "cost") {
    const of = parts[1] === "nodes" ? (parts[2] ?? "") : "all runs together";
    return { about: of, what: parts[1] === "month" ? "cost of a month" : "cost", unit: "mean" };
  }
  if (head === "journeys")
    return { about: "all runs together", what: `journeys, ${rest(parts.slice(1))}`, unit: "count" };
  return { about: "", what: rest(parts), unit: "mean" };
}

const rest = (parts: string[]) => parts.join(" ").replaceAll("_", " ");

function inWords(parts: string[]): Omit<Spoken, "about"> {
  const [first = "", second = ""] = parts;
  if (first in perTimes) {
    return {
      what: `${perTimes[first]}, ${statistics[second] ?? second}`,
      unit: second === "count" ? "count" : "seconds",
    };
  }
  if (first === "oldest_s") return { what: "age of the oldest", unit: "seconds" };
  if (first === "depth" || first === "concurrency") {
    const of = first === "depth" ? "messages in it" : "concurrent runs";
    const how = { max: "at most", end: "at the end", mean: "on average" }[second] ?? second;
    return { what: `${of}, ${how}`, unit: "mean" };
  }
  if (first === "lost" && second && second !== "total") {
    return { what: `lost: ${second.replaceAll("_", "-")}`, unit: "count" };
  }
  if (first === "failed_by") return { what: `failed: ${second}`, unit: "count" };
  const unit = first === "utilisation" ? "share" : "count";
  return { what: names[first] ?? fateNames.get(first) ?? rest(parts), unit };
}

/** Whether a number of a node or link is a sum over the replications, and not a maximum, a mean or a time. */
export const isSum = (path: string) =>
  /^(nodes|links)\.[^.]+\.(?!depth|concurrency|wait_s|time_s|run_time_s|oldest_s|utilisation)/.test(path);

/** A number in the first run and in another: of one replication, where it is a sum over all. */
function pairOf(path: string, d: Differences[string], run: number, replications: number[]) {
  const of = (r: number) => {
    const x = d.values[r] ?? null;
    return x !== null && isSum(path) ? x / (replications[r] ?? 1) : x;
  };
  return { from: of(0), to: of(run) };
}

/** Writes a number in its unit. */
export function written(x: number | null | undefined, unit: Spoken["unit"]): string {
  if (x === null || x === undefined) return "—";
  if (unit === "seconds") return duration(x);
  if (unit === "share") return share(x);
  return unit === "count" && Number.isInteger(x) ? count(x) : number(x);
}

/** How far two numbers are apart, as a share of the larger. */
export const apart = (a: number | null, b: number | null) =>
  Math.abs((b ?? 0) - (a ?? 0)) / Math.max(Math.abs(a ?? 0), Math.abs(b ?? 0), 1e-12);

/** Whether less of a number is better: of what is lost, late or paid; undefined: neither is. */
export function lessIsBetter(path: string): boolean | undefined {
  if (/(^|\.)(lost|parked|failures|failed_by|timeouts|redelivered|throttled|waiting)(\.|$)/.test(path)) return true;
  if (/(^latency\.|\.(wait_s|time_s|run_time_s|oldest_s|depth)\.|^cost\.)/.test(path)) return true;
  return /(^|\.)(handled|stored)$|^expect\./.test(path) ? false : undefined;
}

/** A number that moved from the first run to another. */
export interface Moved {
  path: string;
  says: Spoken;
  from: number | null;
  to: number | null;
  better: boolean | undefined;
  sure: boolean; // significant (95%)
}

// The main numbers of a result, in order: where messages went, how late they were, what it costs.
const headlines = [
  /^per_replication\.lost$/,
  /^per_replication\.(parked|handled|stored|failures|redelivered|waiting)$/,
  /^nodes\.[^.]+\.lost\.total$/,
  /^nodes\.[^.]+\.(parked|depth\.max|wait_s\.p95)$/,
  /^latency\.[^.]+\.p95_s$/,
  /^cost\.month$/,
];

/** The main numbers that moved most from the first run to another, at most so many. */
export function movedMost(differences: Differences, run: number, replications: number[], most = 10): Moved[] {
  const rank = (path: string) => headlines.findIndex((t) => t.test(path));
  return Object.entries(differences)
    .filter(([path, d]) => rank(path) >= 0 && d.beyond_chance !== false)
    .map(([path, d]) => {
      const { from, to } = pairOf(path, d, run, replications);
      const less = lessIsBetter(path);
      const better = less === undefined || from === to ? undefined : (to ?? 0) < (from ?? 0) === less;
      return { path, says: spoken(path), from, to, better, sure: d.beyond_chance === true };
    })
    .filter((m) => apart(m.from, m.to) > 0.02)
    .sort(
      (a, b) =>
        Number(b.sure) - Number(a.sure) || apart(b.from, b.to) - apart(a.from, a.to) || rank(a.path) - rank(b.path),
    )
    .slice(0, most)
    .sort((a, b) => rank(a.path) - rank(b.path) || apart(b.from, b.to) - apart(a.from, a.to));
}

/** What the board says of each node: its main number of one replication, and whether it is worse or better. */
export function onBoard(differences: Differences, run: number, replications: number[]) {
  const badges = new Map<string, Badge>();
  const marks = new Map<string, string>();
  const short = [
    ["lost.total", "lost"],
    ["parked", "parked"],
    ["wait_s.p95", "wait"],
    ["depth.max", "depth"],
    ["failures", "failed"],
  ] as const;
  for (const [pattern, name] of short) {
    for (const [path, d] of Object.entries(differences)) {
      const node = path.split(".")[1] ?? "";
      if (path !== `nodes.${node}.${pattern}` || badges.has(node) || d.beyond_chance === false) continue;
      const pair = pairOf(path, d, run, replications);
      const [from, to] = [pair.from ?? 0, pair.to ?? 0];
      if (apart(from, to) < 0.1 || Math.max(from, to) < 0.5) continue;
      const { unit } = spoken(path);
      const bad = to > from;
      badges.set(node, {
        text: `${name} ${written(from, unit)} → ${written(to, unit)}`,
        full: 0,
        state: bad ? "worse" : "better",
      });
      marks.set(node, bad ? "bad" : "highlighted");
    }
  }
  return { badges, marks };
}

/** The fates of one replication side by side, those that come in any of the results. */
export function ledgers(differences: Differences) {
  const keys = ["handled", "stored", "arrived", "passed", "ignored", "returned", "waiting", "parked", "lost", "copies"];
  return keys
    .map((key) => ({ key, label: fateNames.get(key) ?? key, of: differences[`per_replication.${key}`] }))
    .filter((r) => r.of !== undefined);
}

/** Counts what differs between two models: nodes and links that came or went, and fields. */
export function countChanges(c: Schemas["Changes"] | null): number {
  if (!c) return 0;
  const fields = [...Object.values(c.nodes ?? {}), ...Object.values(c.links ?? {}), c.settings];
  const whole = [c.nodes_added, c.nodes_removed, c.links_added, c.links_removed];
  return [...fields, ...whole].reduce((sum, list) => sum + (list?.length ?? 0), 0);
}
