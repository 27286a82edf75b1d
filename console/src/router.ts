import { createRouter } from "sv-router";
import Home from "./pages/Home.svelte";
import Models from "./pages/Models.svelte";
import SignIn from "./pages/SignIn.svelte";

export const { p, navigate, isActive, route } = createRouter({
  "/": Home,
  "/sign-in": SignIn,
  "/settings": () => import("./pages/Settings.svelte"),
  "/w/:workspace": Models,
  "/w/:workspace/models/:name": () => import("./pages/Workbench.svelte"),
  "/w/:workspace/models/:name/revisions/:number": () => import("./pages/Revision.svelte"),
  "/s/:secret": () => import("./pages/Shared.svelte"),
  "/w/:workspace/runs": () => import("./pages/Runs.svelte"),
  "/w/:workspace/runs/:id": () => import("./pages/Result.svelte"),
  "/w/:workspace/rehearsals/:id": () => import("./pages/Rehearsal.svelte"),
  "/w/:workspace/compare/:runs": () => import("./pages/Compare.svelte"),
  "*": () => import("./pages/NotFound.svelte"),
});
