import { parse, stringify } from "yaml";
import type { Schemas } from "./api";

export type CatalogueField = Schemas["CatalogueField"];
type Plain = Record<string, unknown>;

/** The value at a dotted path of a node or link, as it is written. */
export function valueAt(of: unknown, path: string): unknown {
  return path.split(".").reduce<unknown>((v, key) => (v && typeof v === "object" ? (v as Plain)[key] : undefined), of);
}

/** A value as one writes it on a line. */
export function lineOf(value: unknown): string {
  if (value === undefined || value === null) return "";
  if (typeof value === "string") return value;
  if (Array.isArray(value) && value.every((v) => typeof v === "string" && !/[,[\]{}]/.test(v))) return value.join(", ");
  return stringify(value, { collectionStyle: "flow", lineWidth: 0 }).trim();
}

/** What a line says, by the form of its field; null takes the field away. Throws where it cannot be read. */
export function valueOf(line: string, form: string): unknown {
  const text = line.trim();
  if (text === "") return null;
  switch (form) {
    case "whole":
    case "number":
      return /^-?[\d.]+$/.test(text) ? Number(text) : text;
    case "truth":
      return text === "true";
    case "words": {
      const items = text.startsWith("[")
        ? (parse(text) as unknown[])
        : text
            .split(",")
            .map((t) => t.trim())
            .filter(Boolean);
      return items.length === 1 ? items[0] : items;
    }
    case "anything":
    case "distribution":
      return parse(text);
    case "choice":
      return /^\d+$/.test(text) ? Number(text) : text;
  }
  return text.startsWith("{") && form !== "expression" && form !== "text" ? parse(text) : text;
}

/** A merge patch that sets one dotted path. */
export function patchAt(path: string[], value: unknown): Plain {
  return path.reduceRight<unknown>((inner, key) => ({ [key]: inner }), value) as Plain;
}

/** A name that nothing has yet, from one that may be taken. */
export function freeName(wanted: string, taken: Iterable<string>): string {
  const names = new Set(taken);
  if (!names.has(wanted)) return wanted;
  for (let i = 2; ; i++) if (!names.has(`${wanted}-${i}`)) return `${wanted}-${i}`;
}

/** Nodes as text to put elsewhere: JSON, which is YAML too. */
export function copied(name: string, document: Plain): string {
  const node = (document.nodes as Plain | undefined)?.[name];
  return JSON.stringify({ nodes: { [name]: node } }, null, 2);
}

/** Copied nodes under names that are free, with only those links whose target is among the copied or the present nodes; undefined where the text holds no nodes. */
export function pasted(text: string, present: string[]): Record<string, Plain> | undefined {
  let nodes: Record<string, Plain>;
  try {
    nodes = (parse(text) as { nodes: Record<string, Plain> }).nodes;
    if (typeof nodes !== "object" || Object.values(nodes).some((n) => typeof n.kind !== "string")) return undefined;
  } catch {
    return undefined;
  }
  const taken = [...present];
  const called = new Map<string, string>();
  for (const name of Object.keys(nodes)) {
    called.set(name, freeName(name, taken));
    taken.push(called.get(name)!);
  }
  const put = Object.entries(nodes).map(([name, node]) => {
    const links = Object.entries((node.links ?? {}) as Record<string, Plain | null>).flatMap(([key, link]) => {
      const to = (link?.to as string | undefined) ?? key;
      const target = called.get(to) ?? to;
      return called.has(to) || present.includes(to)
        ? [[key, target === key ? link : { ...link, to: target }] as const]
        : [];
    });
    const { links: _, ...rest } = node;
    return [called.get(name)!, links.length ? { ...rest, links: Object.fromEntries(links) } : rest] as const;
  });
  return put.length ? Object.fromEntries(put) : undefined;
}

/** The node in whose text a line lies; empty: in none's. Lines count from 1. */
export function nodeAt(text: string, nodes: { name: string; line: number }[], line: number): string {
  const begins = new Map(nodes.map((n) => [n.line, n.name]));
  const lines = text.split("\n");
  for (let at = line; at > 0; at--) {
    if (begins.has(at)) return begins.get(at)!;
    if (/^[^\s#]/.test(lines[at - 1] ?? "")) return ""; // another part of the model
  }
  return "";
}
