import vue from "@vitejs/plugin-vue";
import { fileURLToPath } from "node:url";
import { ElementPlusResolver } from "unplugin-vue-components/resolvers";
import Components from "unplugin-vue-components/vite";
import { defineConfig } from "vite";

// Only the styles of the widgets that are used; their colours come from src/styles/tokens.css.
export default defineConfig({
  plugins: [
    vue(),
    Components({ dts: false, dirs: [], resolvers: [ElementPlusResolver({ importStyle: "css" })] }),
  ],
  resolve: { alias: { "@": fileURLToPath(new URL("./src", import.meta.url)) } },
  build: { target: "es2022", chunkSizeWarningLimit: 600 },
  server: { proxy: { "/api": "http://127.0.0.1:8470" } },
});
