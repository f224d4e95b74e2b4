<script setup lang="ts">
import { useQueryClient } from "@tanstack/vue-query";
import { computed, onScopeDispose, ref, watch } from "vue";
import { useRoute } from "vue-router";
import { api, connected, signedOut, take } from "@/api/client";
import { usePing, useSession, useSiteLine } from "@/api/queries";
import CommandPalette from "@/app/CommandPalette.vue";
import SignIn from "@/app/SignIn.vue";
import SiteLineStrip from "@/app/SiteLine.vue";
import { unloadable } from "@/app/router";
import { switchTheme, theme } from "@/app/theme";
import { pageKeys, useKeys } from "@/ui/keys";
import { headline } from "@/ui/waiting";

const client = useQueryClient();
const route = useRoute();
const { data: session, isPending } = useSession();
const signedIn = computed(() => !!session.value?.name);
const { data: line } = useSiteLine(signedIn);
usePing(signedIn);
const palette = ref(false);
const keysShown = ref(false);

watch(signedOut, () => client.invalidateQueries({ queryKey: ["session"] }));

async function signOut() {
  await take(api.DELETE("/api/v1/session"));
  client.clear();
  await client.invalidateQueries();
  window.location.assign("/");
}

useKeys([
  { keys: ["Ctrl+K"], label: "Find or do anything", run: () => (palette.value = true) },
  { keys: ["?"], label: "Keys of this page", run: () => (keysShown.value = !keysShown.value) },
]);
// Inside fields too: the palette must always be at hand.
window.addEventListener("keydown", (event) => {
  if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "k") {
    event.preventDefault();
    palette.value = true;
  }
});
// What notify cues tell everybody stays until each has read it.
const seen = ref<string[]>(JSON.parse(sessionStorage.getItem("maestoso.told") ?? "[]") as string[]);
const keyOf = (one: { run: number; step: string }) => `${one.run}/${one.step}`;
const told = computed(() => (line.value?.told ?? []).filter((one) => !seen.value.includes(keyOf(one))));
function read(key: string) {
  seen.value = [...seen.value.slice(-50), key];
  sessionStorage.setItem("maestoso.told", JSON.stringify(seen.value));
}
// What runs wait for stands on every page, in the title, and is read out, failures at once.
const now = ref(Date.now());
const ticking = window.setInterval(() => (now.value = Date.now()), 1000);
onScopeDispose(() => window.clearInterval(ticking));
const waiting = computed(() => (line.value?.runs ?? []).flatMap((run) => (run.waits ? [{ run: run.id, plan: run.plan_name, waits: run.waits }] : [])));
const polite = ref("");
const assertive = ref("");
const keyOfWait = (one: (typeof waiting.value)[number]) => `${one.run}/${one.waits.kind}/${one.waits.title}`;
watch(
  () => waiting.value.map(keyOfWait).join("\n"),
  (_, before) => {
    const known = (before ?? "").split("\n");
    const say = (region: typeof polite, ones: typeof waiting.value) => {
      const fresh = ones.filter((one) => !known.includes(keyOfWait(one)));
      // Emptied when nothing waits any more: the same words would not be read out again.
      if (fresh.length || !ones.length) region.value = fresh.map((one) => `${one.plan}: ${headline(one.waits, 0)}.`).join(" ");
    };
    say(assertive, waiting.value.filter((one) => one.waits.kind === "failure"));
    say(polite, waiting.value.filter((one) => one.waits.kind !== "failure"));
  },
  { immediate: true },
);
watch(
  () => [waiting.value[0] && headline(waiting.value[0].waits, 0), route.meta.title],
  ([wait, page]) => (document.title = `${wait ? `● ${String(wait)}, ` : ""}${page ? `${String(page)} · ` : ""}Maestoso`),
  { immediate: true },
);
const planCode = computed(() => (typeof route.params.code === "string" ? route.params.code : ""));
</script>

<template>
  <p v-if="isPending" class="page quiet">One moment …</p>
  <SignIn v-else-if="!signedIn" />
  <div v-else class="shell">
    <header>
      <RouterLink to="/" class="mark"><b>m</b>aestoso</RouterLink>
      <span class="organisation">{{ session?.organisation }}</span>
      <span class="space" />
      <button class="find" @click="palette = true"><span>Find or do anything</span> <kbd>Ctrl K</kbd></button>
      <button class="link plain" :title="theme === 'day' ? 'Night theme' : 'Day theme'" @click="switchTheme">
        {{ theme === "day" ? "☾ night" : "☀ day" }}
      </button>
      <span class="who">{{ session?.name }}</span>
      <button class="link plain" @click="signOut">Sign out</button>
    </header>
    <SiteLineStrip v-if="line" :line="line" />
    <div v-else class="line-space" />
    <div class="out-of-sight" aria-live="polite" data-testid="said">{{ polite }}</div>
    <div class="out-of-sight" aria-live="assertive" data-testid="said-at-once">{{ assertive }}</div>
    <RouterLink v-for="one in waiting.filter((each) => String(route.params.id) !== String(each.run) || route.name !== 'run')" :key="one.run" :to="`/runs/${one.run}`" class="waits" :class="one.waits.kind">
      <b>{{ one.plan }}</b> {{ headline(one.waits, now) }}
    </RouterLink>
    <p v-if="unloadable" class="offline" role="alert">
      ✕ This page could not be loaded: the server is away, or has another release by now. <a class="link" :href="unloadable">Load it anew</a>
    </p>
    <p v-if="!connected" class="offline" role="status">
      ◌ No connection to the server. What you see may be old; it catches up by itself.
    </p>
    <p v-for="one in told" :key="keyOf(one)" class="told" role="status">
      <span aria-hidden="true">⚑</span> <RouterLink :to="`/runs/${one.run}`">{{ one.plan_name }}</RouterLink>: {{ one.text }}
      <button class="link" @click="read(keyOf(one))">Dismiss</button>
    </p>
    <div class="body">
      <nav aria-label="Pages">
        <RouterLink to="/" :class="{ on: route.name === 'readiness' }">Readiness</RouterLink>
        <RouterLink to="/estate" :class="{ on: String(route.path).startsWith('/estate') }">Estate</RouterLink>
        <RouterLink to="/protection" :class="{ on: String(route.path).startsWith('/protection') }">Protection</RouterLink>
        <RouterLink to="/crosswalks" :class="{ on: String(route.path).startsWith('/crosswalks') }">Crosswalks</RouterLink>
        <h2>Plans</h2>
        <RouterLink
          v-for="plan in line?.plans ?? []"
          :key="plan.code"
          :to="`/plans/${plan.code}`"
          class="plan"
          :class="{ on: planCode === plan.code }"
          >{{ plan.name }}</RouterLink
        >
        <RouterLink to="/plans/new" class="plan" :class="{ on: route.name === 'new-plan' }">+ New plan</RouterLink>
        <RouterLink to="/scripts" :class="{ on: route.name === 'scripts' }">Scripts</RouterLink>
        <RouterLink to="/runs" :class="{ on: String(route.path).startsWith('/runs') }">
          Runs <span v-if="line?.runs.length" class="number">{{ line.runs.length }}</span>
        </RouterLink>
        <RouterLink to="/evidence" :class="{ on: String(route.path).startsWith('/evidence') }">Evidence</RouterLink>
        <RouterLink to="/settings" :class="{ on: String(route.path).startsWith('/settings') }">Settings</RouterLink>
        <RouterLink v-if="line?.stations.some((one) => one.practice)" to="/lab" :class="{ on: route.name === 'lab' }">Practice lab</RouterLink>
      </nav>
      <main>
        <RouterView :key="route.path" />
      </main>
    </div>
    <CommandPalette v-model="palette" :line="line" @keys="keysShown = true" @sign-out="signOut" />
    <el-dialog v-model="keysShown" title="Keys of this page" width="420">
      <ul class="keys">
        <li v-for="action in pageKeys" :key="action.label">
          <span>{{ action.label }}</span>
          <span><kbd v-for="key in action.keys.slice(0, 2)" :key="key">{{ key }}</kbd></span>
        </li>
      </ul>
    </el-dialog>
  </div>
</template>

<style scoped>
.shell {
  min-height: 100%;
  display: flex;
  flex-direction: column;
}
header {
  display: flex;
  align-items: center;
  gap: var(--gap-4);
  height: 48px;
  padding: 0 18px;
  background: var(--sheet);
  border-bottom: 1px solid var(--rule);
}
.mark {
  font-family: var(--serif);
  font-size: 22px;
  font-weight: 700;
  text-decoration: none;
}
.mark b {
  color: var(--brass);
}
.organisation {
  color: var(--ink-2);
}
.space {
  flex: 1;
}
.find {
  display: flex;
  justify-content: space-between;
  align-items: center;
  width: 280px;
  font: inherit;
  padding: 3px 8px 3px 11px;
  border: 1px solid var(--rule);
  border-radius: var(--radius);
  background: var(--paper);
  color: var(--ink-2);
  cursor: pointer;
}
.plain {
  color: var(--ink-2);
}
.line-space {
  height: 58px;
  border-bottom: 1px solid var(--rule);
}
.waits {
  display: block;
  padding: 5px var(--gap-4);
  border-left: 6px solid var(--brass);
  border-bottom: 1px solid var(--rule);
  background: var(--sheet);
  color: var(--ink-1);
  text-decoration: none;
}
.waits.failure {
  border-left: 6px double var(--disaster);
}
.waits:hover {
  text-decoration: underline;
}
.told {
  background: var(--brass-soft);
  border-bottom: 1px solid var(--brass);
  padding: 6px 18px;
}
.offline {
  background: var(--disaster-soft);
  border-bottom: 3px double var(--disaster);
  padding: 6px 18px;
}
.body {
  flex: 1;
  display: flex;
  min-height: 0;
}
nav {
  width: 172px;
  flex: none;
  border-right: 1px solid var(--rule);
  padding: 14px 0;
}
nav a {
  display: flex;
  justify-content: space-between;
  padding: 7px 14px 7px 18px;
  border-left: 3px solid transparent;
  text-decoration: none;
}
nav a:hover {
  background: var(--rule-faint);
}
nav a.on {
  background: var(--brass-soft);
  border-left-color: var(--brass);
  font-weight: 600;
}
nav h2 {
  font-size: var(--text-s);
  padding: 14px 18px 4px 21px;
}
nav .plan {
  padding-left: 26px;
  line-height: 1.25;
}
nav .plan + a:not(.plan) {
  margin-top: 12px;
}
.number {
  margin-left: 8px;
  color: var(--test);
  font-weight: 700;
}
main {
  flex: 1;
  min-width: 0;
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
  .organisation,
  .find span,
  .who {
    display: none;
  }
  .find {
    width: auto;
  }
  header {
    gap: var(--gap-2);
    padding: 0 10px;
  }
  .body {
    flex-direction: column;
  }
  nav {
    width: 100%;
    display: flex;
    overflow-x: auto;
    padding: 0;
    border-right: 0;
    border-bottom: 1px solid var(--rule);
  }
  nav h2,
  nav .plan {
    display: none;
  }
  nav .plan + a:not(.plan) {
    margin-top: 0;
  }
}
</style>
