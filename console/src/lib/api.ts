import createClient from "openapi-fetch";
import { reaching } from "./connection.svelte";
import type { components, paths } from "./schema";

/** The service's API, typed from its own description. */
export const api = createClient<paths>({ baseUrl: "", fetch: reaching });

/** Where the page is kept that somebody wanted before they had to sign in. */
export const returnKey = "ironweir-return";

/** Where the workspace of the last visit is kept. */
export const lastKey = "ironweir-workspace";

api.use({
  onResponse({ response }) {
    if (response.status === 401 && !location.pathname.startsWith("/sign-in")) {
      sessionStorage.setItem(returnKey, location.pathname + location.search + location.hash); // where to go on once signed in
      location.assign("/sign-in");
    }
  },
});

export type Schemas = components["schemas"];
export type Finding = Schemas["CheckFinding"];
export type Board = Schemas["Board"];
export type Result = Schemas["RunDocument"];

/** A place in a file with what is wrong there. */
export interface Problem {
  message: string;
  line: number;
  column: number;
}

interface ProblemDocument {
  detail?: string;
  errors?: { message?: string; location?: string; value?: unknown }[] | null;
}

/** What went wrong, in a sentence. */
export function sentence(problem: unknown): string {
  const p = (problem ?? {}) as ProblemDocument;
  return p.detail ?? "The service did not answer.";
}

/** The places that a problem names. */
export function problems(problem: unknown): Problem[] {
  const p = (problem ?? {}) as ProblemDocument;
  return (p.errors ?? []).map((e) => {
    const at = (e.value ?? {}) as { line?: number; column?: number };
    return {
      message: (e.location ? e.location + ": " : "") + (e.message ?? ""),
      line: at.line ?? 0,
      column: at.column ?? 0,
    };
  });
}
