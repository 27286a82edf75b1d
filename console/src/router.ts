import { createRouter } from "sv-router";
import EachPath from "./components/EachPath.svelte";
import Home from "./pages/Home.svelte";
import Models from "./pages/Models.svelte";
import NotLoaded from "./pages/NotLoaded.svelte";

/**
 * What stands in place of a page of which the code cannot be loaded. (The router knows a page that is to be loaded by
 * its text, `() => import(…)`.)
 */
const notLoaded = () => ({ default: NotLoaded });

export const { p, navigate, isActive, route } = createRouter({
  layout: EachPath,
  "/": Home,
  "/settings": () => import("./pages/Settings.svelte").catch(notLoaded),
  "/w/:workspace": Models,
  "/w/:workspace/models/:name": () => import("./pages/Workbench.svelte").catch(notLoaded),
  "/w/:workspace/models/:name/revisions/:number": () => import("./pages/Revision.svelte").catch(notLoaded),
  "/s/:secret": () => import("./pages/Shared.svelte").catch(notLoaded),
  "/w/:workspace/runs": () => import("./pages/Runs.svelte").catch(notLoaded),
  "/w/:workspace/runs/:id": () => import("./pages/Result.svelte").catch(notLoaded),
  "/w/:workspace/rehearsals/:id": () => import("./pages/Rehearsal.svelte").catch(notLoaded),
  "/w/:workspace/compare/:runs": () => import("./pages/Compare.svelte").catch(notLoaded),
  "*": () => import("./pages/NotFound.svelte").catch(notLoaded),
});
