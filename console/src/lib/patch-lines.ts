import { lineOf } from "./written";

/** One place that a patch changes, as it is and as it will be; undefined: it is not there. */
export interface PatchLine {
  path: string;
  before: string | undefined;
  after: string | undefined;
}

const isMap = (v: unknown): v is Record<string, unknown> => typeof v === "object" && v !== null && !Array.isArray(v);

/** What a JSON Merge Patch (RFC 7396) changes of a document, place by place. */
export function patchLines(document: unknown, patch: unknown, path: string[] = []): PatchLine[] {
  if (isMap(patch) && (isMap(document) || path.length === 0))
    return Object.entries(patch).flatMap(([key, value]) =>
      patchLines(isMap(document) ? document[key] : undefined, value, [...path, key]),
    );
  const line = (v: unknown) => (v === undefined ? undefined : lineOf(v) || "{}");
  return [{ path: path.join("."), before: line(document), after: patch === null ? undefined : line(patch) }];
}
