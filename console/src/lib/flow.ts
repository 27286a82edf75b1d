import type { Result } from "./api";

/** A bar of a flow picture, and a band between two. */
export interface Bar {
  name: string;
  column: number;
  amount: number;
  bad: boolean;
  y: number;
  height: number;
}
export interface Band {
  from: Bar;
  to: Bar;
  amount: number;
  bad: boolean;
  y0: number; // where it leaves and arrives, from the top
  y1: number;
  width: number;
}

const shownFates = [
  "handled",
  "stored",
  "arrived",
  "ignored",
  "unmatched",
  "returned",
  "parked",
  "waiting",
  "running",
] as const;
const badFates = new Set(["parked", "lost", "returned", "unmatched"]);
const most = 14; // nodes by themselves; the others are put together

/** Entries, the nodes at which copies of their journeys ended, and what became of them there. Bands are as wide as what goes along them; `least` pixels where that is less. */
export function flowOf(
  result: Pick<Result, "latency" | "nodes" | "links">,
  height: number,
  gap = 13,
  least = 1.5,
): { bars: Bar[]; bands: Band[] } {
  const first: [string, string, number][] = Object.entries(result.latency).map(([way, times]) => {
    const at = way.indexOf(":");
    return [way.slice(0, at), way.slice(at + 1), times.count];
  });
  // A link that reads a stream or a table accounts for copies of its own.
  const readers = Object.entries(result.links ?? {}).flatMap(([id, l]) =>
    l.lost ? [[id.slice(0, id.indexOf(":")), l] as const] : [],
  );
  const second: [string, string, number][] = [...Object.entries(result.nodes), ...readers].flatMap(([name, n]) => [
    ...shownFates.map((f) => [name, f, n[f] ?? 0] as [string, string, number]),
    [name, "lost", n.lost?.total ?? 0] as [string, string, number],
  ]);
  const ended = new Map<string, number>();
  for (const [name, , n] of second) ended.set(name, (ended.get(name) ?? 0) + n);
  const ranked = [...ended].filter(([, n]) => n > 0).sort((a, b) => b[1] - a[1]);
  const kept = new Set(ranked.slice(0, ranked.length > most + 1 ? most : most + 1).map(([name]) => name));
  const place = (name: string) => (kept.has(name) ? name : "others");

  const ways = new Map<string, { column: number; from: string; to: string; amount: number }>();
  const add = (column: number, from: string, to: string, amount: number) => {
    if (amount <= 0) return;
    const key = `${column} ${from} ${to}`;
    const way = ways.get(key) ?? { column, from, to, amount: 0 };
    way.amount += amount;
    ways.set(key, way);
  };
  // What a function or outside system takes from a queue or stream ends there, by that account.
  const source = (to: string) =>
    ended.get(to)
      ? to
      : Object.keys(result.links ?? {})
          .map((id) => id.split(":"))
          .find(([from, name]) => name === to && ended.get(from))?.[0];
  for (const [from, to, n] of first) {
    const at = source(to);
    if (at) add(0, from, place(at), n);
  }
  for (const [name, fate, n] of second) add(1, place(name), fate, n);

  const bars: Bar[] = [];
  const bar = (column: number, name: string) => {
    let b = bars.find((b) => b.column === column && b.name === name);
    if (!b) bars.push((b = { name, column, amount: 0, bad: column === 2 && badFates.has(name), y: 0, height: 0 }));
    return b;
  };
  for (const w of ways.values()) {
    bar(w.column, w.from);
    bar(w.column + 1, w.to);
  }
  const sum = (b: Bar, side: "from" | "to") =>
    [...ways.values()]
      .filter((w) => w.column + (side === "to" ? 1 : 0) === b.column && w[side] === b.name)
      .reduce((n, w) => n + w.amount, 0);
  for (const b of bars) b.amount = Math.max(sum(b, "from"), sum(b, "to"));

  const columns = [0, 1, 2].map((c) =>
    bars.filter((b) => b.column === c).sort((a, b) => Number(a.bad) - Number(b.bad) || b.amount - a.amount),
  );
  const scale = Math.min(
    ...columns
      .filter((c) => c.length)
      .map((c) => (height - gap * (c.length - 1)) / c.reduce((n, b) => n + b.amount, 0)),
  );
  for (const column of columns) {
    let y = 0;
    for (const b of column) {
      b.y = y;
      b.height = Math.max(b.amount * scale, least);
      y += b.height + gap;
    }
  }
  const left = new Map<Bar, number>(bars.map((b) => [b, 0]));
  const arrived = new Map<Bar, number>(bars.map((b) => [b, 0]));
  const order = (b: Bar) => columns[b.column].indexOf(b);
  const bands = [...ways.values()]
    .map((w) => ({ from: bar(w.column, w.from), to: bar(w.column + 1, w.to), amount: w.amount }))
    .sort((a, b) => a.from.column - b.from.column || order(a.from) - order(b.from) || order(a.to) - order(b.to))
    .map((w) => {
      const width = Math.max(w.amount * scale, least);
      const band = { ...w, bad: w.to.bad, width, y0: w.from.y + left.get(w.from)!, y1: w.to.y + arrived.get(w.to)! };
      left.set(w.from, left.get(w.from)! + w.amount * scale);
      arrived.set(w.to, arrived.get(w.to)! + w.amount * scale);
      return band;
    });
  return { bars, bands };
}
