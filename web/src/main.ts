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
import { QueryClient, VueQueryPlugin } from "@tanstack/vue-query";
import { createApp } from "vue";
import { ApiError } from "@/api/client";
import App from "@/app/App.vue";
import { router } from "@/app/router";

const queryClient = new QueryClient({
  // A lost connection is said by the shell, and asked again; what the server refused it refuses again. Nothing pauses
  // by what the browser believes of its network: the server may be on this machine.
  defaultOptions: { mutations: { networkMode: "always" }, queries: { networkMode: "always", retry: (tries, problem) => !(problem instanceof ApiError) && tries < 1, refetchOnWindowFocus: true, staleTime: 1000 } },
});

createApp(App).use(router).use(VueQueryPlugin, { queryClient }).mount("#app");
