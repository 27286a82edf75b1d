import type { Schemas } from "./api";
import { count } from "./format";
import { stateAt, type Badge } from "./node-state";

export type State = Schemas["RehearsalState"];
export type LiveNode = Schemas["RehearsalNode"];

/** A simulated instant as a clock shows it: hours, minutes, seconds since the start. */
export function clock(s: number): string {
  const two = (n: number) => String(n).padStart(2, "0");
  return `${two(Math.floor(s / 3600))}:${two(Math.floor(s / 60) % 60)}:${two(Math.floor(s) % 60)}`;
}

/** Seconds of an instant written as h:m:s, m:s or s; undefined: it is none. */
export function instant(text: string): number | undefined {
  const parts = text.trim().split(":").map(Number);
  if (text.trim() === "" || parts.length > 3 || parts.some((n) => !Number.isFinite(n) || n < 0)) return undefined;
  return parts.reduce((sum, n) => sum * 60 + n, 0);
}

/** What people or the scenario do to a node just now. */
export function inForce(n: LiveNode): string[] {
  const out: string[] = [];
  if (n.fails !== undefined) out.push(n.fails >= 1 ? "failing" : `fails ${Math.round(n.fails * 1000) / 10} %`);
  if (n.slow !== undefined) out.push(`${n.slow}× slow`);
  if (n.concurrency !== undefined) out.push(`at most ${n.concurrency}`);
  if (n.stopped) out.push("stopped");
  if (n.off) out.push("off");
  return out;
}

/** What a node says on the board; `was` is how it stood a moment before, `deepest` the most that it has held. */
export function badge(
  n: LiveNode,
  was: LiveNode | undefined,
  { kind, capacity }: { kind: string; capacity?: number },
  deepest: number,
): Badge {
  const words = [
    ...inForce(n),
    n.lost ? `${count(n.lost)} lost` : "",
    n.parked ? `${count(n.parked)} parked` : "",
    n.depth && !n.parked ? `${count(n.depth)} queued` : "",
    n.running ? `${count(n.running)} running` : "",
    n.runs ? `${count(n.runs)} ${n.runs === 1 ? "run" : "runs"}` : n.copies ? `${count(n.copies)} received` : "",
  ].filter(Boolean);
  return {
    text: words.slice(0, 2).join(", ") || kind,
    full: deepest > 1 ? n.depth / deepest : 0,
    waits: n.depth,
    state: stateAt({
      failing: n.fails !== undefined || n.stopped === true,
      lost: n.lost,
      depth: n.depth,
      throttled: was && n.throttled > was.throttled ? n.throttled - was.throttled : 0,
      capacity: capacity ?? 0,
    }),
  };
}
