import { api, lastKey, type Schemas } from "./api";
import { route } from "../router";

/** Name of the workspace that the page is about; every page's address names it. */
export function currentWorkspace(): string {
  const [, w, name] = route.pathname.split("/");
  return w === "w" ? decodeURIComponent(name ?? "") : (localStorage.getItem(lastKey) ?? "");
}

/** Who is signed in, and where they may do what. */
class Visitor {
  user = $state.raw<Schemas["User"] | undefined>();
  workspaces = $state.raw<Schemas["Workspace"][] | undefined>();

  async load() {
    const [who, spaces] = await Promise.all([api.GET("/api/v1/session"), api.GET("/api/v1/workspaces")]);
    this.user = who.data;
    this.workspaces = spaces.data?.items;
  }

  /** What may be done in the workspace of this page. */
  get role() {
    return this.workspaces?.find((w) => w.name === currentWorkspace())?.role;
  }

  /** Whether things may be changed here; also while that is not known yet. */
  get edits() {
    return this.role !== "viewer";
  }

  /** Where to begin: the workspace of the last visit, else the first. */
  get home() {
    const last = localStorage.getItem(lastKey);
    return (this.workspaces?.find((w) => w.name === last) ?? this.workspaces?.[0])?.name;
  }

  remember(name: string) {
    localStorage.setItem(lastKey, name);
  }
}

export const visitor = new Visitor();
