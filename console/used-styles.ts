import { existsSync, readFileSync, statSync } from "node:fs";
import { dirname, join, resolve } from "node:path";
import { PurgeCSS } from "purgecss";
import type { Plugin } from "vite";

const components = "node_modules/carbon-components-svelte/src/";

/** Where each Carbon component lies, by its name. */
export const carbon = new Map(
  [...readFileSync(components + "index.js", "utf8").matchAll(/export \{ default as (\w+) \} from "\.\/(.+?)"/g)].map(
    (m) => [m[1], m[2]],
  ),
);

/** The file that an import of a file means; none where it is of a package. */
function imported(from: string, name: string): string | undefined {
  if (!name.startsWith(".")) return;
  const path = resolve(dirname(from), name);
  return [path, path + ".ts", path + ".js", join(path, "index.js")].find((p) => existsSync(p) && statSync(p).isFile());
}

/** The sources of a file and of all that it imports, now or later, Carbon's components among them. */
function sources(file: string, read = new Map<string, string>()): Map<string, string> {
  if (read.has(file)) return read;
  const text = readFileSync(file, "utf8");
  read.set(file, text);
  for (const [, name] of text.matchAll(/(?:\bfrom |\bimport |\bimport\()"([^"]+)"/g)) {
    const at = imported(file, name);
    if (at) sources(at, read);
  }
  for (const [, names] of text.matchAll(/import \{([^}]+)\} from "carbon-components-svelte"/g)) {
    for (const name of names.split(",")) {
      const at = carbon.get(name.trim());
      if (at) sources(resolve(components, at), read);
    }
  }
  return read;
}

/**
 * `import "./app.css?for=App.svelte"` loads what of a style sheet App.svelte and all that it imports can use: a rule
 * stays where each class in it stands in their sources, whole or as the beginning of a name that is put together, and
 * the theme that it is for, if any. Other attributes may have values that no source names.
 */
export const usedStyles: Plugin = {
  name: "used-styles",
  async transform(code, id) {
    const [path, query] = id.split("?");
    const entry = path.endsWith(".css") && new URLSearchParams(query).get("for");
    if (!entry) return;
    const texts = [...sources(resolve(dirname(path), entry)).values()];
    const beginnings = texts.flatMap((t) => t.match(/bx--[\w-]*(?=\$\{)/g) ?? []).map((b) => new RegExp("^" + b));
    const [{ css }] = await new PurgeCSS().purge({
      content: texts.map((raw) => ({ raw, extension: "svelte" })),
      css: [{ raw: code.replace(/@font-face\s*\{[^}]*https:[^}]*\}/g, "") }], // Carbon asks another host for its fonts
      defaultExtractor: (text) => text.match(/[\w-]+/g) ?? [],
      dynamicAttributes: [...code.matchAll(/\[([\w-]+)/g)].map(([, name]) => name).filter((name) => name !== "theme"),
      safelist: { standard: [/^:/, "html", "body", ...beginnings] },
    });
    return { code: css, map: null };
  },
};
