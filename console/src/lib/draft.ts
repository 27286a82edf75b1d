/** A text that is not saved yet, and the revision that it was written on. */
export interface Draft {
  revision: number;
  text: string;
}

/** Gives the draft that this browser keeps under a key, if it can be read. */
export function readDraft(key: string): Draft | undefined {
  try {
    return JSON.parse(localStorage.getItem(key) ?? "null") ?? undefined;
  } catch {
    return undefined;
  }
}

/** Keeps a draft, so that it survives a reload and a browser that crashes; none: lets go of it. */
export function keepDraft(key: string, draft: Draft | undefined) {
  if (draft) localStorage.setItem(key, JSON.stringify(draft));
  else localStorage.removeItem(key);
}
