import { isMap, parseDocument, type Document } from "yaml";

/** What a form shows of a scenario. */
export interface Traffic {
  name: string;
  into: string;
  rate: string;
  arrivals: string; // poisson, even, or empty: something that the text alone says
  key: string;
  size: string;
}
export interface Incident {
  name: string;
  at: string;
  for: string;
  on: string; // a node, or a link as FROM:NAME
  does: string; // one of effects, or empty: something that the text alone says
  value: string;
}
export interface Form {
  length: string;
  start: string;
  seed: string;
  replications: string;
  traffic: Traffic[];
  incidents: Incident[];
  expect: { name: string; expression: string }[];
}

/** What incidents of a form can do, with the usual value, and whether it is done to a node or a link. */
export const effects: { field: string; words: string; usual: string; on: "node" | "link" | "both" }[] = [
  { field: "fails", words: "fails, share", usual: "100%", on: "node" },
  { field: "slow", words: "slower, factor", usual: "5", on: "node" },
  { field: "concurrency", words: "concurrency", usual: "1", on: "node" },
  { field: "stopped", words: "stopped", usual: "true", on: "node" },
  { field: "crash", words: "crashes", usual: "true", on: "node" },
  { field: "paused", words: "paused", usual: "true", on: "link" },
  { field: "enabled", words: "enabled", usual: "false", on: "both" },
];
export const effectsOn = (isLink: boolean) => effects.filter((e) => e.on === "both" || (e.on === "link") === isLink);

const scalar = (v: unknown): string =>
  v === undefined || v === null ? "" : v instanceof Date ? v.toISOString() : String(v);
const entries = (v: unknown): [string, Record<string, unknown>][] =>
  v && typeof v === "object" && !Array.isArray(v) ? (Object.entries(v) as [string, Record<string, unknown>][]) : [];

/** Reads a scenario's text for the form; undefined: it is no map that could be shown. */
export function readForm(text: string): Form | undefined {
  const doc = parseDocument(text);
  if (doc.errors.length || !isMap(doc.contents)) return undefined;
  const s = doc.toJS() as Record<string, unknown>;
  return {
    length: scalar(s.length),
    start: scalar(s.start),
    seed: scalar(s.seed),
    replications: scalar(s.replications),
    traffic: entries(s.traffic).map(([name, t]) => ({
      name,
      into: scalar(t?.into),
      rate: scalar(t?.rate),
      arrivals: t?.arrivals === undefined ? "poisson" : typeof t.arrivals === "string" ? t.arrivals : "",
      key: scalar(t?.key),
      size: scalar(t?.size),
    })),
    incidents: entries(s.incidents).map(([name, i]) => {
      const effect = effects.find((e) => i?.[e.field] !== undefined);
      return {
        name,
        at: scalar(i?.at),
        for: scalar(i?.for),
        on: scalar(i?.node ?? i?.link),
        does: effect && (i?.node || i?.link) ? effect.field : "",
        value: effect ? scalar(i?.[effect.field]) : "",
      };
    }),
    expect: entries(s.expect).map(([name, expression]) => ({ name, expression: scalar(expression) })),
  };
}

/** Writes one value into a scenario's text, comments and the rest kept; an empty one removes the field. New entries stand on one line. */
export function writeField(text: string, path: string[], value: unknown): string {
  const doc = parseDocument(text) as Document;
  for (let k = 1; k < path.length; k++) {
    const at = doc.getIn(path.slice(0, k), true);
    if (!isMap(at)) doc.setIn(path.slice(0, k), doc.createNode({}, { flow: k > 1 }));
    else if (at.flow && k === 1 && at.items.length === 0) at.flow = false; // the `{}` of a section with nothing in it
  }
  if (value === "" || value === undefined) doc.deleteIn(path);
  else doc.setIn(path, typeof value === "object" ? doc.createNode(value, { flow: true }) : plain(value));
  return doc.toString({ lineWidth: 0, flowCollectionPadding: false });
}

/** A number or truth as itself, else the text. */
function plain(value: unknown): unknown {
  if (typeof value !== "string") return value;
  if (value === "true" || value === "false") return value === "true";
  return /^-?\d+(\.\d+)?$/.test(value) ? Number(value) : value;
}
