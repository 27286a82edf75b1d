import { readFileSync } from "node:fs";
import { svelte, vitePreprocess } from "@sveltejs/vite-plugin-svelte";
import { defineConfig, type Plugin } from "vite";

/** Carbon's style sheet asks another host for its fonts; ours come with the console. */
const ownFonts: Plugin = {
  name: "own-fonts",
  enforce: "pre",
  transform(code, id) {
    if (/carbon-components-svelte\/css\/.*\.css/.test(id)) return code.replace(/@font-face\s*\{[^}]*\}/g, "");
  },
};

/** Where each Carbon component lies, so that a page loads only what it uses. */
const carbon = new Map(
  [
    ...readFileSync("node_modules/carbon-components-svelte/src/index.js", "utf8").matchAll(
      /export \{ default as (\w+) \} from "\.\/(.+?)"/g,
    ),
  ].map((m) => [m[1], m[2]]),
);

const deepImports = {
  name: "deep-imports",
  markup: ({ content }: { content: string }) => ({
    code: content.replace(/import \{([^}]+)\} from "carbon-components-svelte";/g, (_, names: string) =>
      names
        .split(",")
        .map((n) => n.trim())
        .filter(Boolean)
        .map((n) => `import ${n} from "carbon-components-svelte/src/${carbon.get(n)}";`)
        .join(" "),
    ),
  }),
};

export default defineConfig({
  plugins: [ownFonts, svelte({ preprocess: [vitePreprocess(), deepImports] })],
  optimizeDeps: { exclude: ["carbon-components-svelte", "carbon-icons-svelte"] },
  build: { outDir: "../service/site/dist", emptyOutDir: true, chunkSizeWarningLimit: 2000 },
});
