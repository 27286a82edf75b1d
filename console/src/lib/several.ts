/** The change by which nodes fail together as a group, with those that do already. */
export function together(document: Record<string, unknown>, group: string, names: string[]): Record<string, unknown> {
  const groups = (document["fails-together"] ?? {}) as Record<string, string[] | { nodes?: string[] }>;
  const stands = groups[group];
  const members = (Array.isArray(stands) ? stands : stands?.nodes) ?? [];
  const all = [...new Set([...members, ...names])];
  return { "fails-together": { [group]: stands && !Array.isArray(stands) ? { nodes: all } : all } };
}

/** The names that are chosen once one more is pressed: another, or one less. */
export function toggled(names: string[], name: string): string[] {
  return names.includes(name) ? names.filter((n) => n !== name) : [...names, name];
}
