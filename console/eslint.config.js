import js from "@eslint/js";
import svelte from "eslint-plugin-svelte";
import globals from "globals";
import ts from "typescript-eslint";

export default ts.config(
  { ignores: ["node_modules", "src/lib/schema.d.ts"] },
  js.configs.recommended,
  ...ts.configs.recommended,
  ...svelte.configs.recommended,
  { languageOptions: { globals: globals.browser } },
  {
    rules: {
      // Maps and dates inside a derived value are made anew with it; none of them is state.
      "svelte/prefer-svelte-reactivity": "off",
      // The only way to write a line break into an attribute.
      "svelte/no-useless-mustaches": "off",
      "@typescript-eslint/no-unused-vars": ["error", { varsIgnorePattern: "^_$" }],
    },
  },
  {
    files: ["**/*.svelte", "**/*.svelte.ts"],
    languageOptions: { parserOptions: { parser: ts.parser } },
  },
);
