import js from "@eslint/js";
import a11y from "eslint-plugin-jsx-a11y";
import hooks from "eslint-plugin-react-hooks";
import globals from "globals";
import ts from "typescript-eslint";

export default ts.config(
  js.configs.recommended,
  ...ts.configs.recommendedTypeChecked,
  a11y.flatConfigs.recommended,
  hooks.configs.flat["recommended-latest"],
  {
    languageOptions: { globals: globals.browser, parserOptions: { projectService: true } },
    rules: { "@typescript-eslint/no-misused-promises": ["error", { checksVoidReturn: { attributes: false } }] },
  },
);
