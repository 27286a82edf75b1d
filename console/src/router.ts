import { createRouter } from "sv-router";
import Models from "./pages/Models.svelte";
import SignIn from "./pages/SignIn.svelte";

export const { p, navigate, isActive, route } = createRouter({
  "/": Models,
  "/sign-in": SignIn,
  "/models/:name": () => import("./pages/Workbench.svelte"),
  "/runs": () => import("./pages/Runs.svelte"),
  "/runs/:id": () => import("./pages/Result.svelte"),
  "/compare/:runs": () => import("./pages/Compare.svelte"),
  "*": () => import("./pages/Nowhere.svelte"),
});
