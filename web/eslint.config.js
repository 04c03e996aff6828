import js from "@eslint/js";
import hooks from "eslint-plugin-react-hooks";
import globals from "globals";
import ts from "typescript-eslint";

export default ts.config(
  { ignores: ["dist*", "src/api/schema.ts"] },
  js.configs.recommended,
  ...ts.configs.recommended,
  { plugins: { "react-hooks": hooks }, rules: hooks.configs.recommended.rules, languageOptions: { globals: globals.browser } },
);
