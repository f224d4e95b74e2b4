<script setup lang="ts">
// What uses what, drawn in columns: everything stands to the right of what it needs.
import { useQuery } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { api, take } from "@/api/client";
import EstateTabs from "@/features/estate/EstateTabs.vue";
import { columns, around } from "@/features/estate/uses";
import WorkloadDrawer from "@/features/estate/WorkloadDrawer.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { count } from "@/ui/format";

const MOST = 60;
const route = useRoute();
const router = useRouter();
const { data, error } = useQuery({ queryKey: ["uses"], queryFn: () => take(api.GET("/api/v1/uses")) });
const focus = computed(() => (typeof route.query.of === "string" ? route.query.of : ""));
const open = ref("");
const typed = ref(focus.value);
const rows = computed(() => new Map((data.value?.rows ?? []).map((row) => [row.name, row])));
const pairs = computed(() => (data.value?.uses ?? []).filter((use) => use.provider));
const shown = computed(() => (focus.value ? around(pairs.value, focus.value) : pairs.value));
const tooMany = computed(() => !focus.value && rows.value.size > MOST);
const drawn = computed(() => (tooMany.value ? [] : columns(shown.value)));
const WIDE = 150;
const GAP = 70;
const HIGH = 26;
const place = computed(() => {
  const found = new Map<string, { x: number; y: number }>();
  drawn.value.forEach((column, i) => column.forEach((name, j) => found.set(name, { x: i * (WIDE + GAP), y: j * (HIGH + 8) })));
  return found;
});
const width = computed(() => Math.max(drawn.value.length * (WIDE + GAP) - GAP, 200));
const height = computed(() => Math.max(...drawn.value.map((column) => column.length), 1) * (HIGH + 8));
const lines = computed(() =>
  shown.value.flatMap((use) => {
    const [from, to] = [place.value.get(use.provider), place.value.get(use.user)];
    if (!from || !to) return [];
    const [x1, y1, x2, y2] = [from.x + WIDE, from.y + HIGH / 2, to.x, to.y + HIGH / 2];
    return [{ ...use, d: `M${x1} ${y1} C${x1 + GAP / 2} ${y1} ${x2 - GAP / 2} ${y2} ${x2} ${y2}` }];
  }),
);
const safe = (name: string) => !!rows.value.get(name)?.group;
const missing = computed(() => {
  const found = new Map<string, Set<string>>();
  for (const use of pairs.value) if (!safe(use.provider) && safe(use.user)) found.set(use.provider, (found.get(use.provider) ?? new Set()).add(use.user));
  return [...found].sort((a, b) => b[1].size - a[1].size);
});
const nobody = computed(() => (data.value?.uses ?? []).filter((use) => !use.provider));
const look = (name: string) => void router.replace({ query: name ? { of: name } : {} });
</script>

<template>
  <div class="page">
    <ProblemNote v-if="error" :error="error" />
    <h1 v-if="data" class="sentence">
      {{ count(pairs.length, "use") }} between {{ count(rows.size, "workload") }}.
      <template v-if="missing.length">{{ count(missing.length, "workload that protected ones need is", "workloads that protected ones need are") }} protected by nobody.</template>
      <template v-else>Everything that protected workloads need is protected.</template>
    </h1>
    <EstateTabs />
    <form class="line" @submit.prevent="look(typed)">
      <el-input v-model="typed" list="names" aria-label="Around one workload" placeholder="around one workload" class="entry mono" />
      <datalist id="names"><option v-for="name in rows.keys()" :key="name" :value="name" /></datalist>
      <el-button class="btn" native-type="submit">Look at it</el-button>
      <button v-if="focus" type="button" class="link" @click="look((typed = ''))">All of them</button>
      <span class="quiet">What is needed stands left of what needs it. ▢ protected ▣ ✕ protected by nobody</span>
    </form>
    <p v-if="tooMany" class="quiet">{{ rows.size }} workloads are too many for one drawing. Choose one to see what it needs and what needs it.</p>
    <div class="map">
      <svg v-if="drawn.length" :width="width + 2" :height="height + 4" role="group" aria-label="What uses what">
        <path v-for="one in lines" :key="one.user + one.service" :d="one.d" :class="{ bare: !safe(one.provider) && safe(one.user) }"><title>{{ one.user }} uses {{ one.service }} of {{ one.provider }}</title></path>
        <g v-for="[name, at] in place" :key="name" :transform="`translate(${at.x + 1} ${at.y + 1})`" :class="{ bare: !safe(name), focus: name === focus }" tabindex="0" role="button" @click="open = name" @keydown.enter="open = name">
          <rect :width="WIDE" :height="HIGH" rx="3" />
          <text x="8" y="17">{{ safe(name) ? "" : "✕ " }}{{ name }}</text>
        </g>
      </svg>
    </div>
    <template v-if="missing.length">
      <h2>Needed and not protected</h2>
      <table class="lines">
        <tr v-for="[name, users] in missing" :key="name">
          <td><button class="link" @click="look((typed = name))">{{ name }}</button></td>
          <td>needed by {{ [...users].join(", ") }}</td>
          <td><RouterLink class="btn" :to="`/protection/new?members=${name}`">Protect it</RouterLink></td>
        </tr>
      </table>
    </template>
    <template v-if="nobody.length">
      <h2>Used, but offered by nobody</h2>
      <p v-for="use in nobody" :key="use.user + use.service">{{ use.user }} uses <span class="mono">{{ use.service }}</span>.</p>
    </template>
    <WorkloadDrawer :name="open" @close="open = ''" @open="open = $event" />
  </div>
</template>

<style scoped>
.line {
  display: flex;
  gap: var(--gap-3);
  align-items: center;
  margin-bottom: var(--gap-3);
}
.map {
  overflow-x: auto;
}
path {
  fill: none;
  stroke: var(--ink-3);
}
path.bare {
  stroke: var(--disaster);
  stroke-width: 1.6;
}
rect {
  fill: var(--sheet);
  stroke: var(--ink-1);
}
g.bare rect {
  stroke: var(--disaster);
  stroke-dasharray: 4 3;
}
g.focus rect {
  fill: var(--brass-soft);
  stroke-width: 2;
}
g[role="button"] {
  cursor: pointer;
}
text {
  font-size: 12.5px;
  fill: var(--ink-1);
  font-family: var(--sans);
}
h2 {
  margin-top: var(--gap-4);
}
</style>
