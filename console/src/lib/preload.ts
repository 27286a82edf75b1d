/** Loads the page of a model, and starts what lays boards out, while nobody waits. (Apart from the pages: the router takes a page whose own code imports something for one that is still to be loaded.) */
export function preload() {
  const whenIdle = globalThis.requestIdleCallback ?? ((f: () => void) => setTimeout(f, 1000));
  whenIdle(() => void Promise.all([import("../pages/Workbench.svelte"), import("./layout").then((l) => l.warmUp())]));
}
