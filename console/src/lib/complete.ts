import type { Schemas } from "./api";

export interface Offer {
  label: string;
  detail: string;
  apply?: string;
}

type Plain = Record<string, unknown>;

const topLevel: Record<string, string> = {
  about: "what the model is of",
  variables: "values used as $name",
  environments: "other values of the variables",
  defaults: "fields by kind; a node's own goes before",
  limits: "what the platform allows",
  pools: "concurrency that functions share",
  permissions: "open or explicit",
  "fails-together": "groups of nodes",
  parts: "other files",
  accepted: "findings that are accepted",
  nodes: "the nodes",
  alarms: "what would warn",
  prices: "for the cost",
};

/** The keys that enclose a place, from the outside in; block and one-line maps may be mixed. */
export function pathAt(before: string): { path: string[]; line: string } {
  const lines = before.split("\n");
  const current = lines[lines.length - 1];
  // Maps on this line that are open at its end, with the keys before them.
  const open: (string | undefined)[] = [];
  let quoted = "";
  let start = 0;
  for (let i = 0; i < current.length; i++) {
    const c = current[i];
    if (quoted) {
      if (c === quoted) quoted = "";
      continue;
    }
    if (c === '"' || c === "'") quoted = c;
    else if (c === "{" || c === "[") {
      open.push(/([\w-]+)\s*:\s*$/.exec(current.slice(0, i))?.[1]);
      start = i + 1;
    } else if (c === "}" || c === "]") {
      open.pop();
      start = i + 1;
    } else if (c === ",") start = i + 1;
  }
  const inner = open.filter((k): k is string => k !== undefined);
  let indent = /^\s*/.exec(current)![0].length;
  const outer: string[] = [];
  for (let i = lines.length - 2; i >= 0 && indent > 0; i--) {
    const m = /^(\s*)([\w-]+)\s*:/.exec(lines[i]);
    if (!m || m[1].length >= indent) continue;
    outer.unshift(m[2]);
    indent = m[1].length;
  }
  return { path: [...outer, ...inner], line: open.length ? current.slice(start) : current };
}

/** What may be written at a place: keys, or the values of a key. */
export function offersAt(before: string, catalogue: Schemas["Catalogue"], document: Plain): Offer[] {
  const { path, line } = pathAt(before);
  const nodes = (document.nodes ?? {}) as Record<string, Plain>;
  const kindOf = (node: string) => catalogue.kinds.find((k) => k.kind === nodes[node]?.kind);
  const names = Object.keys(nodes);
  const inLink = path[0] === "nodes" && path[2] === "links" && path.length >= 4;
  const linkFields = () =>
    catalogue.link.filter((f) => f.on.length === 0 || f.on.includes(String(nodes[path[1]]?.kind ?? "")));

  const value = /^\s*([\w-]+)\s*:\s+[\w-]*$/.exec(line);
  if (value) {
    const key = value[1];
    if (key === "kind") return catalogue.kinds.map((k) => ({ label: k.kind, detail: k.about }));
    const wanted = [...path.slice(4), key].join(".");
    const field = inLink
      ? linkFields().find((f) => f.path === wanted)
      : kindOf(path[1])?.fields.find((f) => f.path === key);
    if (field?.form === "node") return names.map((n) => ({ label: n, detail: String(nodes[n].kind ?? "") }));
    if (field?.form === "truth") return ["true", "false"].map((label) => ({ label, detail: field.about }));
    return (field?.choices ?? []).map((label) => ({ label, detail: field!.about }));
  }
  if (!/^\s*[\w-]*$/.test(line)) return [];
  const keys = (fields: Schemas["CatalogueField"][], prefix: string) => {
    const out = new Map<string, Offer>();
    for (const f of fields) {
      if (!f.path.startsWith(prefix)) continue;
      const [first, ...rest] = f.path.slice(prefix.length).split(".");
      if (!out.has(first))
        out.set(first, {
          label: first,
          detail: rest.length ? "a map" : f.about + (f.default ? `; default ${f.default}` : ""),
          apply: `${first}: `,
        });
    }
    return [...out.values()];
  };
  if (path.length === 0)
    return Object.entries(topLevel).map(([label, detail]) => ({ label, detail, apply: `${label}: ` }));
  if (path[0] !== "nodes") return [];
  if (inLink)
    return keys(
      linkFields(),
      path
        .slice(4)
        .map((p) => p + ".")
        .join(""),
    );
  if (path.length === 3 && path[2] === "links")
    return names.map((n) => ({ label: n, detail: String(nodes[n].kind ?? ""), apply: `${n}: ` }));
  if (path.length === 2) {
    const kind = kindOf(path[1]);
    return [
      ...(kind ? [] : [{ label: "kind", detail: "what kind of node it is", apply: "kind: " }]),
      ...(kind ? keys(kind.fields, "") : []),
      { label: "links", detail: "what leaves it", apply: "links: " },
    ];
  }
  return [];
}
