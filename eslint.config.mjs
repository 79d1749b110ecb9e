import js from "@eslint/js";
import globals from "globals";

export default [
  js.configs.recommended,
  {
    languageOptions: { ecmaVersion: 2022, sourceType: "script", globals: globals.browser },
    rules: {
      eqeqeq: "error",
      "no-implicit-globals": "error",
      "no-var": "error",
      "prefer-const": "error",
      // What comes from a ledger is text: it is never made into markup here.
      "no-restricted-properties": [
        "error",
        { property: "innerHTML" },
        { property: "outerHTML" },
        { property: "insertAdjacentHTML" },
      ],
    },
  },
];
