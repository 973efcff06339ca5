import js from "@eslint/js";
import globals from "globals";

export default [
  js.configs.recommended,
  {
    files: ["src/**", "build.mjs", "test.mjs", "test/**", "tools/**"],
    languageOptions: {
      ecmaVersion: 2023, sourceType: "module", parserOptions: { ecmaFeatures: { jsx: true } },
      globals: { ...globals.browser, ...globals.node },
    },
    // Elements are names that only JSX uses.
    rules: { "no-unused-vars": ["error", { varsIgnorePattern: "^(h|Fragment|[A-Z].*)$" }], eqeqeq: "error", "prefer-const": "error" },
  },
];
