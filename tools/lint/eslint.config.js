// Scripts are plain ones of the browser: no modules, no build.
import js from "@eslint/js";
import globals from "globals";

export default [
  js.configs.recommended,
  {
    languageOptions: { sourceType: "script", globals: { ...globals.browser, Alpine: "readonly", d3: "readonly", Idiomorph: "readonly" } },
    rules: { "no-var": "error", "prefer-const": "error", eqeqeq: "error", "no-implicit-globals": "error" },
  },
];
