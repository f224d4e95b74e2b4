<script setup lang="ts">
// Dependencies, drawn in columns: everything stands to the right of what it needs.
import { useQuery } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { api, take } from "@/api/client";
import EstateTabs from "@/features/estate/EstateTabs.vue";
import UsesMap from "@/features/estate/UsesMap.vue";
import { around, folded, tagKeys, UNTAGGED } from "@/features/estate/uses";
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
const safe = (name: string) => !!rows.value.get(name)?.group;
const keys = computed(() => tagKeys(data.value?.rows ?? []));
/** The tag by which workloads are put together; empty draws each of them. */
const by = computed({
  get: () => (focus.value ? "" : typeof route.query.by === "string" ? route.query.by : rows.value.size > MOST ? (keys.value[0] ?? "") : ""),
  set: (key: string) => void router.replace({ query: { by: key } }),
});
const shown = computed(() => (focus.value ? around(pairs.value, focus.value) : pairs.value));
const tooMany = computed(() => !focus.value && !by.value && rows.value.size > MOST);
const lines = computed(() => {
  if (by.value) return folded(pairs.value, data.value?.rows ?? [], by.value).map((one) => ({ ...one, said: `${one.user} uses ${one.provider}: ${count(one.times, "use")}`, bad: false }));
  return tooMany.value ? [] : shown.value.map((one) => ({ ...one, said: `${one.user} uses ${one.service} of ${one.provider}`, bad: !safe(one.provider) && safe(one.user) }));
});
const missing = computed(() => {
  const found = new Map<string, Set<string>>();
  for (const use of pairs.value) if (!safe(use.provider) && safe(use.user)) found.set(use.provider, (found.get(use.provider) ?? new Set()).add(use.user));
  return [...found].sort((a, b) => b[1].size - a[1].size);
});
const sentence = computed(() => {
  const lacking = missing.value.length;
  const rest = lacking ? `${count(lacking, "workload that protected ones need is", "workloads that protected ones need are")} not protected.` : "Everything that protected workloads need is protected.";
  return `${count(pairs.value.length, "use")} between ${count(rows.value.size, "workload")}. ${rest}`;
});
const nobody = computed(() => (data.value?.uses ?? []).filter((use) => !use.provider));
const look = (name: string) => void router.replace({ query: name ? { of: name } : {} });
function choose(name: string) {
  if (!by.value) open.value = name;
  else void router.push({ path: "/estate", query: { filter: name === UNTAGGED ? `-tag:${by.value}` : `tag:${by.value}=${/^[\w.-]+$/.test(name) ? name : JSON.stringify(name)}` } });
}
</script>

<template>
  <div class="page">
    <ProblemNote v-if="error" :error="error" />
    <h1 class="sentence">{{ data ? sentence : "Dependencies" }}</h1>
    <EstateTabs />
    <form class="line" @submit.prevent="look(typed)">
      <el-input v-model="typed" list="names" aria-label="Around one workload" placeholder="around one workload" class="entry mono" />
      <datalist id="names"><option v-for="name in rows.keys()" :key="name" :value="name" /></datalist>
      <el-button class="btn" native-type="submit">Look at it</el-button>
      <button v-if="focus" type="button" class="link" @click="look((typed = ''))">All of them</button>
      <label v-if="keys.length && !focus">
        each box is
        <el-select v-model="by" aria-label="Each box is" class="by">
          <el-option value="" label="a workload" />
          <el-option v-for="key in keys" :key="key" :value="key" :label="`a value of the tag ${key}`" />
        </el-select>
      </label>
      <span class="quiet">What is needed stands left of what needs it.<template v-if="!by"> ▢ protected, ✕ not protected.</template></span>
    </form>
    <p v-if="tooMany" class="quiet">{{ rows.size }} workloads are too many for one drawing. Choose one to see what it needs and what needs it<template v-if="keys.length">, or put them together by a tag</template>.</p>
    <UsesMap :lines="lines" :focus="focus" :bad="(name) => !by && !safe(name)" @choose="choose" />
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
.by {
  width: 190px;
}
.line {
  display: flex;
  flex-wrap: wrap;
  gap: var(--gap-3);
  align-items: center;
  margin-bottom: var(--gap-3);
}
h2 {
  margin-top: var(--gap-4);
}
</style>
