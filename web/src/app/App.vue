<script setup lang="ts">
import { useQueryClient } from "@tanstack/vue-query";
import { computed, defineAsyncComponent, ref, useTemplateRef, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import { signedOut } from "@/api/client";
import { useLiveUpdates } from "@/api/liveUpdates";
import { usePing, useSession, useSiteLine } from "@/api/queries";
import CommandPalette from "@/app/CommandPalette.vue";
import ShellHeader from "@/app/ShellHeader.vue";
import ShellNotices from "@/app/ShellNotices.vue";
import SideBar from "@/app/SideBar.vue";
import SignIn from "@/app/SignIn.vue";
import SiteLineStrip from "@/app/SiteLine.vue";
import { useHeadingFocus } from "@/app/headingFocus";
import { readAs } from "@/ui/format";
import { pageKeys, useKeys } from "@/ui/keys";
import { setLacking } from "@/ui/may";
import { preferTheme } from "@/ui/theme";

// What few people open loads when they do.
const HelpDrawer = defineAsyncComponent(() => import("@/app/HelpDrawer.vue"));
const client = useQueryClient();
const route = useRoute();
const router = useRouter();
const { data: session, isPending } = useSession();
const signedIn = computed(() => !!session.value?.name);
// Also while such a page is still coming over a slow line, and is in no route: nobody is asked to sign in for it meanwhile.
const forAnybody = computed(() => (route.matched.length ? route : router.resolve(location.pathname)).meta.anybody);
// Who must have a second factor can do nothing else before.
watch([() => session.value?.restricted, () => route.path], ([why, path]) => why && path !== "/account" && void router.replace("/account"));
watch(session, (now) => setLacking(now?.lacking ?? {}), { immediate: true, flush: "sync" });
// Before any page says when something was.
watch(
  () => session.value?.reading,
  (now) => {
    if (!now) return;
    readAs(now);
    preferTheme(now.theme);
  },
  { immediate: true, flush: "sync" },
);
const { data: line } = useSiteLine(signedIn);
const { silent, listens, refresh } = useLiveUpdates(client, signedIn);
const { dataUpdatedAt } = usePing(signedIn, silent);
// Where there is no stream and the server answers all the same, pages ask by themselves.
watch(dataUpdatedAt, () => silent.value && refresh());
const palette = ref(false);
const keysShown = ref(false);
const helping = ref(false);
const header = useTemplateRef<InstanceType<typeof ShellHeader>>("header");
const page = useTemplateRef<HTMLElement>("page");
useHeadingFocus(page);

watch(signedOut, () => client.invalidateQueries({ queryKey: ["session"] }));

useKeys([
  { keys: ["Ctrl+K"], label: "Find or do anything", run: () => (palette.value = true) },
  { keys: ["F1"], label: "What is this page for?", run: () => (helping.value = true) },
  { keys: ["?"], label: "Keys of this page", run: () => (keysShown.value = !keysShown.value) },
]);
// Inside fields too: the palette must always be at hand.
window.addEventListener("keydown", (event) => {
  if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "k") {
    event.preventDefault();
    palette.value = true;
  }
});
function skip() {
  page.value?.focus();
}
</script>

<template>
  <!-- An empty choice, such as "by the rules", is a choice. -->
  <el-config-provider :empty-values="[undefined, null]" :value-on-clear="() => ''">
    <p v-if="isPending" class="page quiet">One moment …</p>
    <main v-else-if="!signedIn && forAnybody" class="alone"><RouterView /></main>
    <SignIn v-else-if="!signedIn" :provider="session?.provider ?? ''" :mail="!!session?.mail" :standby="!!session?.standby" />
    <div v-else class="shell">
      <a class="skip" href="#page" @click.prevent="skip">Skip to the page</a>
      <ShellHeader ref="header" @find="palette = true" @help="helping = true" />
      <SiteLineStrip v-if="line" :line="line" />
      <div v-else class="line-space" />
      <ShellNotices :line="line" :calls="listens" />
      <div class="body">
        <SideBar :line="line" />
        <main id="page" ref="page" tabindex="-1">
          <RouterView :key="route.path" />
        </main>
      </div>
      <CommandPalette v-model="palette" :line="line" @keys="keysShown = true" @help="helping = true" @sign-out="header?.signOut()" />
      <HelpDrawer v-if="helping" v-model="helping" />
      <el-dialog v-model="keysShown" title="Keys of this page" width="min(420px, 94vw)">
        <ul class="keys">
          <li v-for="action in pageKeys" :key="action.label">
            <span>{{ action.label }}</span>
            <span><kbd v-for="key in action.keys.slice(0, 2)" :key="key">{{ key }}</kbd></span>
          </li>
        </ul>
      </el-dialog>
    </div>
  </el-config-provider>
</template>

<style scoped>
.shell {
  min-height: 100%;
  display: flex;
  flex-direction: column;
}
.skip {
  position: absolute;
  left: 8px;
  top: -60px;
  z-index: 3001;
  padding: 6px 12px;
  background: var(--sheet);
  border: 2px solid var(--brass);
}
.skip:focus {
  top: 8px;
}
.line-space {
  height: 65px;
  border-bottom: 1px solid var(--rule);
}
.body {
  flex: 1;
  display: flex;
  min-height: 0;
}
main {
  flex: 1;
  min-width: 0;
}
.alone {
  min-height: 100%;
}
main:focus-visible {
  outline: none;
}
.keys li {
  display: flex;
  justify-content: space-between;
  padding: 4px 0;
  border-bottom: 1px solid var(--rule-faint);
}
.keys kbd {
  margin-left: 4px;
}
@media (max-width: 760px) {
  .body {
    flex-direction: column;
  }
}
</style>
