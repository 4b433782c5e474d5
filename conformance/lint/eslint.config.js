// The strict set, with type information, for everything that faithful writes
// and for the programs that use it. No comment can switch a rule off.
import tseslint from "typescript-eslint";

export default tseslint.config(
  { ignores: ["**/node_modules/**", "**/dist/**", "**/*.js"] },
  ...tseslint.configs.strictTypeChecked,
  { languageOptions: { parserOptions: { projectService: true } } },
  { linterOptions: { reportUnusedDisableDirectives: "error", noInlineConfig: true } },
  // Definitions can deprecate what their own stubs have to go on using.
  { files: ["**/gen/**", "**/*.test.ts"], rules: { "@typescript-eslint/no-deprecated": "off" } },
);
