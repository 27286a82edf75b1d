import type { Board } from "./api";

type Link = Board["links"][number];

/** Groups names that links join, in the order of the names. */
export function components(names: string[], links: Pick<Link, "from" | "to">[]): string[][] {
  const root = new Map(names.map((n) => [n, n]));
  const find = (n: string): string => {
    let r = n;
    while (root.get(r) !== r) r = root.get(r)!;
    root.set(n, r);
    return r;
  };
  for (const l of links) root.set(find(l.from), find(l.to));
  const groups = new Map<string, string[]>();
  for (const n of names) groups.set(find(n), [...(groups.get(find(n)) ?? []), n]);
  return [...groups.values()];
}
