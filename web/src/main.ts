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
import { vMay } from "@/ui/may";

// A page that is drawn in another type first moves when ours comes; on a slow line it is not waited for.
const LONGEST_WAIT_MS = 400;
const faces = ['400 23px "Source Serif 4"', '600 23px "Source Serif 4"', '400 14px "Atkinson Hyperlegible Next"', '700 14px "Atkinson Hyperlegible Next"'];
const loaded = Promise.all(faces.map((face) => document.fonts.load(face)));
const late = new Promise((done) => window.setTimeout(done, LONGEST_WAIT_MS));
void Promise.race([loaded, late]).finally(() => createApp(App).directive("may", vMay).use(router).use(VueQueryPlugin, { queryClient }).mount("#app"));
