<script setup lang="ts">
import { useIntervalFn, useNow, useSessionStorage } from "@vueuse/core";
import { computed, ref, watch } from "vue";
import { useRoute } from "vue-router";
import { connected } from "@/api/client";
import { useSession } from "@/api/queries";
import type { SiteLine } from "@/api/types";
import { unloadable } from "@/app/router";
import StandbyNote from "@/app/StandbyNote.vue";
import { useCalls } from "@/ui/calls";
import { headline } from "@/ui/waiting";

/** `calls`: this page is the one of its browser that calls its person. */
const props = defineProps<{ line: SiteLine | undefined; calls: boolean }>();
const route = useRoute();
const { data: session } = useSession();

// What notify cues tell everybody stays until each has read it.
const MOST_SEEN = 50;
const seen = useSessionStorage<string[]>("maestoso.told", []);
const keyOf = (one: { run: number; step: string }) => `${one.run}/${one.step}`;
const told = computed(() => (props.line?.told ?? []).filter((one) => !seen.value.includes(keyOf(one))));
const read = (key: string) => (seen.value = [...seen.value.slice(-MOST_SEEN), key]);

// What runs wait for stands on every page, in the title, and is read out, failures at once.
const now = useNow({ scheduler: (tick) => useIntervalFn(tick, 1000) });
const waiting = computed(() => (props.line?.runs ?? []).flatMap((run) => (run.waits ? [{ run: run.id, plan: run.plan_name, waits: run.waits }] : [])));
const elsewhere = computed(() => waiting.value.filter((one) => String(route.params.id) !== String(one.run) || route.name !== "run"));
useCalls(waiting, () => props.calls);
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
</script>

<template>
  <section aria-label="What needs you">
    <div class="out-of-sight" aria-live="polite" data-testid="said">{{ polite }}</div>
    <div class="out-of-sight" aria-live="assertive" data-testid="said-at-once">{{ assertive }}</div>
    <RouterLink v-for="one in elsewhere" :key="one.run" :to="`/runs/${one.run}`" class="waits" :class="one.waits.kind">
      <b>{{ one.plan }}</b> {{ headline(one.waits, now.getTime()) }}
    </RouterLink>
    <p v-if="unloadable" class="offline" role="alert">
      ✕ This page could not be loaded: the server is away, or has another release by now. <a class="link" :href="unloadable">Reload</a>
    </p>
    <p v-if="session?.restricted" class="offline" role="alert">▲ {{ session.restricted }} <RouterLink class="link" to="/account">Set it up</RouterLink></p>
    <StandbyNote v-if="session?.standby" :may="session.may_take_over" />
    <p v-if="line?.past" class="offline" role="alert">▲ {{ line.past }} Nothing is changed here any more: go on there.</p>
    <p v-if="!connected" class="offline" role="status">
      ◌ No connection to the server. What you see may be old; it catches up by itself.
    </p>
    <p v-for="one in told" :key="keyOf(one)" class="told" role="status">
      <span aria-hidden="true">⚑</span> <RouterLink :to="`/runs/${one.run}`">{{ one.plan_name }}</RouterLink>: {{ one.text }}
      <button class="link" @click="read(keyOf(one))">Dismiss</button>
    </p>
  </section>
</template>

<style scoped>
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
</style>
