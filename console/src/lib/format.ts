import { zone } from "./zone.svelte";

/** Numbers and times as people read them. */

const whole = new Intl.NumberFormat(undefined, { maximumFractionDigits: 0 });

export function count(n: number): string {
  return whole.format(n);
}

const tenths = new Intl.NumberFormat("en-GB", { maximumFractionDigits: 1 });
/** A count over some replications, as the mean of one of them, to a tenth. */
export const counted = (n: number, over: number) => tenths.format(n / over);

/** A number with three digits that count, or whole where it is large. */
export const number = (n: number) => (Math.abs(n) >= 1000 ? count(Math.round(n)) : String(Number(n.toPrecision(3))));

/** A time in seconds, in the units in which it reads best. */
export function duration(s: number): string {
  if (s === 0) return "0 s";
  if (s < 1e-3) return `${(s * 1e6).toFixed(0)} µs`;
  if (s < 1) return `${(s * 1e3).toFixed(0)} ms`;
  if (s < 10 && !Number.isInteger(s)) return `${s.toFixed(2)} s`;
  if (s < 120 && s % 60 && Number.isInteger(s)) return `${s} s`;
  if (s < 120 && s !== 60) return `${s.toFixed(1)} s`;
  const total = Math.round(s);
  const [d, h, m, rest] = [
    Math.floor(total / 86400),
    Math.floor(total / 3600) % 24,
    Math.floor(total / 60) % 60,
    total % 60,
  ];
  if (d) return h ? `${d} d ${h} h` : `${d} d`;
  if (h) return m ? `${h} h ${m} min` : `${h} h`;
  return rest ? `${m} min ${rest} s` : `${m} min`;
}

/** How often something happens, in the unit in which it reads best; of a number a second. */
export function rate(perSecond: number): string {
  if (perSecond === 0) return "0/h";
  const [unit, n] =
    perSecond >= 1
      ? ["s", perSecond]
      : perSecond * 60 >= 1
        ? ["min", perSecond * 60]
        : perSecond * 3600 >= 1
          ? ["h", perSecond * 3600]
          : ["d", perSecond * 86400];
  return `${n < 9.95 ? Number(n.toFixed(n < 0.095 ? 3 : 1)) : count(n)}/${unit}`;
}

/** A share in percent: one that is not nothing, or not all, never looks like it. */
export function share(x: number): string {
  if (x === 0) return "0 %";
  if (x < 1e-6) return "under 0.0001 %";
  if (x < 1 && 1 - x < 1e-6) return "over 99.9999 %";
  if (x < 1 && 1 - x < 0.0005) return `${Math.floor(x * 1e6) / 1e4} %`;
  return x < 0.001 ? `${(x * 100).toPrecision(2)} %` : `${(x * 100).toFixed(1)} %`;
}

export function when(iso: string): string {
  return zone.format(new Date(iso), {
    year: "numeric",
    month: "short",
    day: "numeric",
    hour: "numeric",
    minute: "2-digit",
    timeZoneName: "short",
  });
}

/** The fates of a ledger in the order in which they are shown, with what they mean. */
export const fates: { key: string; label: string; means: string; bad?: boolean }[] = [
  { key: "handled", label: "handled", means: "the consumer finished with it" },
  { key: "stored", label: "stored", means: "stored in a bucket or table" },
  { key: "arrived", label: "arrived", means: "stored in a queue or stream that nothing reads" },
  { key: "passed", label: "passed", means: "replaced by copies at other nodes" },
  { key: "ignored", label: "ignored", means: "covered by a topic's ignore" },
  { key: "unmatched", label: "unmatched", means: "declined by every link" },
  { key: "returned", label: "returned", means: "the caller received its failure" },
  { key: "waiting", label: "waiting", means: "in a channel or intake at the end" },
  { key: "running", label: "running", means: "in a run at the end" },
  { key: "parked", label: "parked", means: "stored as a dead letter, without a consumer", bad: true },
];

/** What the causes of loss mean, as the command line says it. */
export const causes: Record<string, string> = {
  expired: "its retention ended before it was consumed",
  exhausted: "the tries are exhausted and there is no dead-letter node",
  given_up: "it is older than `give-up` and there is no dead-letter node",
  refused: "the target's `callers` do not name the sender",
  throttled: "rejected: no concurrency or rate is left",
  overflow: "the queue is full",
  too_large: "it is over the payload limit",
  rejected: "the write failed",
  unsubscribed: "the topic has no links",
  hop_limit: "it has passed through more functions than the hop limit allows",
};
