/** Whether the service takes a name for a node, model, scenario or workspace. */
export const isName = (name: string) => /^[a-z][a-z0-9-]{0,62}$/.test(name);
