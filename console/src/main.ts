import { mount } from "svelte";
import { api, lastKey } from "./lib/api";
import "./lib/theme.svelte";

/** What stands at this address. The page to sign in weighs little; the rest is loaded for those who are signed in. */
async function page() {
  if (location.pathname.startsWith("/sign-in")) return import("./pages/SignIn.svelte");
  const visited = localStorage.getItem(lastKey) !== null;
  if (!visited && !location.pathname.startsWith("/s/")) {
    const { response } = await api.GET("/api/v1/session");
    if (response.status === 401) return; // the page to sign in is on its way
  }
  return import("./App.svelte");
}

const target = document.getElementById("app")!;
page().then(
  (p) => p && mount(p.default, { target }),
  () => (target.textContent = "The console could not be loaded. Load the page again once the service can be reached."),
);
