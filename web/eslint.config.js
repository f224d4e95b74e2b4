import { defineConfigWithVueTs, vueTsConfigs } from "@vue/eslint-config-typescript";
import pluginVue from "eslint-plugin-vue";

const features = ["access", "crosswalks", "estate", "plans", "protection", "readiness", "runs"];

export default defineConfigWithVueTs(
  { ignores: ["dist/**", "src/api/schema.d.ts", "eslint.config.js"] },
  pluginVue.configs["flat/essential"],
  vueTsConfigs.recommended,
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
