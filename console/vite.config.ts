import { svelte, vitePreprocess } from "@sveltejs/vite-plugin-svelte";
import { defineConfig } from "vite";
import { carbon, usedStyles } from "./used-styles";

/** A page loads only those of Carbon's components that it uses. */
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
  plugins: [svelte({ preprocess: [vitePreprocess(), deepImports] }), usedStyles],
  optimizeDeps: { exclude: ["carbon-components-svelte", "carbon-icons-svelte"] },
  build: { outDir: "../service/site/dist", emptyOutDir: true, chunkSizeWarningLimit: 2000 },
});
