import { defineConfigWithVueTs, vueTsConfigs } from "@vue/eslint-config-typescript";
import { readdirSync } from "node:fs";
import pluginVue from "eslint-plugin-vue";

const features = readdirSync(new URL("./src/features", import.meta.url));

export default defineConfigWithVueTs(
  { ignores: ["dist/**", "src/api/schema.d.ts", "eslint.config.js"] },
  pluginVue.configs["flat/recommended"],
  vueTsConfigs.recommended,
  {
    // Where lines break is left to whoever writes them.
    rules: Object.fromEntries(
      ["max-attributes-per-line", "singleline-html-element-content-newline", "multiline-html-element-content-newline", "html-closing-bracket-newline", "first-attribute-linebreak", "html-self-closing"].map((rule) => [`vue/${rule}`, "off"]),
    ),
  },
  { files: ["**/*.vue"], rules: { "max-lines": ["error", 250] } },
  // What two features need is in ui/ or in api/.
  ...features.map((feature) => ({
    files: [`src/features/${feature}/**`],
    rules: {
      "no-restricted-imports": [
        "error",
        {
          patterns: features
            .filter((other) => other !== feature)
            .map((other) => ({ group: [`@/features/${other}/*`], message: "Features never import each other." })),
        },
      ],
    },
  })),
);
