/** What the address says beside the page: what is chosen, which moment, which journey. A link opens exactly that. */

/** What the address says of something; empty: nothing. */
export const saidOf = (key: string): string => new URLSearchParams(location.search).get(key) ?? "";

/** Has the address say something, or no longer. It makes no entry in the history: Back leads to the page before. */
export function say(what: Record<string, string>) {
  const said = new URLSearchParams(location.search);
  for (const [key, value] of Object.entries(what)) {
    if (value) said.set(key, value);
    else said.delete(key);
  }
  const query = said.size ? "?" + said : "";
  if (query !== location.search) history.replaceState(history.state, "", location.pathname + query + location.hash);
}
