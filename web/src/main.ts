import "@fontsource/atkinson-hyperlegible-mono/latin-400.css";
import "@fontsource/atkinson-hyperlegible-next/latin-400.css";
import "@fontsource/atkinson-hyperlegible-next/latin-600.css";
import "@fontsource/atkinson-hyperlegible-next/latin-700.css";
import "@fontsource/source-serif-4/latin-400.css";
import "@fontsource/source-serif-4/latin-600.css";
import "@fontsource/source-serif-4/latin-700.css";
import "element-plus/es/components/base/style/css";
import "@/styles/tokens.css";
import "@/styles/base.css";
import { VueQueryPlugin } from "@tanstack/vue-query";
import { createApp } from "vue";
import { queryClient } from "@/api/queryClient";
import App from "@/app/App.vue";
import { router } from "@/app/router";

createApp(App).use(router).use(VueQueryPlugin, { queryClient }).mount("#app");
