<script setup lang="ts">
// A new plan: where it goes, what is in it, in which order. The order is proposed with reasons.
import { computed, ref, watch, defineAsyncComponent } from "vue";
import { useRoute, useRouter } from "vue-router";
import { useQueryClient } from "@tanstack/vue-query";
import { api, take } from "@/api/client";
import { usePlans, useProtection, useSites } from "@/api/queries";
import type { Piece, Plan, Template } from "@/api/types";
import { newMember, newWave } from "@/features/plans/draft";
import ProblemNote from "@/ui/ProblemNote.vue";
import { count, roman } from "@/ui/format";

const PlanFileDrawer = defineAsyncComponent(() => import("@/features/plans/PlanFileDrawer.vue"));
const route = useRoute();
const router = useRouter();
const client = useQueryClient();
const { data: sites } = useSites();
const { data: protection } = useProtection();
const name = ref("");
const code = ref("");
const source = ref("");
const target = ref("");
const rto = ref(30);
const rpo = ref(5);
const groups = ref<Set<string>>(new Set(typeof route.query.group === "string" ? [route.query.group] : []));
const more = ref("");
const like = ref("");
const templates = ref<Template[]>([]);
void take(api.GET("/api/v1/plan-templates")).then((found) => (templates.value = found.templates));
const template = computed(() => templates.value.find((one) => one.key === like.value));
const { data: listed } = usePlans();
const model = ref<Plan | null>(null);
const copied = computed(() => like.value.startsWith("plan:"));
const waves = ref<string[]>([]);
const pieces = ref<Piece[]>([]);
const refused = ref<Set<string>>(new Set());
const problem = ref<unknown>(null);
const busy = ref(false);
const fromFile = ref(false);

const ways = computed(() => (protection.value?.groups ?? []).filter((group) => group.source === source.value && group.target === target.value));
// The direction in which most is protected is the likeliest.
watch(
  protection,
  (now) => {
    if (source.value || !now?.groups.length) return;
    const first = now.groups.find((group) => groups.value.has(group.code)) ?? now.groups[0];
    source.value = first?.source ?? "";
    target.value = first?.target ?? "";
  },
  { immediate: true },
);
watch([source, target], () => (groups.value = new Set([...groups.value].filter((one) => ways.value.some((group) => group.code === one)))));
function toggle(group: string) {
  const next = new Set(groups.value);
  if (!next.delete(group)) next.add(group);
  groups.value = next;
}
watch(name, (now, before) => {
  const made = (text: string) => text.toUpperCase().replace(/[^A-Z0-9]/g, "").slice(0, 6);
  if (!code.value || code.value === made(before)) code.value = made(now);
});

async function chosen(): Promise<string[]> {
  const found: string[] = [];
  for (const group of groups.value) {
    found.push(...(await take(api.GET("/api/v1/groups/{code}", { params: { path: { code: group } } }))).group.members);
  }
  if (more.value.trim()) {
    const filter = `site:${source.value} ${more.value}`;
    found.push(...(await take(api.GET("/api/v1/workloads", { params: { query: { filter, limit: 1000 } } }))).rows.map((row) => row.name));
  }
  return [...new Set(found)];
}
let asked = 0;
watch(like, async (now) => {
  model.value = null;
  problem.value = null;
  if (!now.startsWith("plan:")) return;
  try {
    const found = (await take(api.GET("/api/v1/plans/{code}", { params: { path: { code: now.slice(5) } } }))).plan;
    model.value = found;
    [source.value, target.value, rto.value, rpo.value] = [found.source, found.target, found.rto_s / 60, found.rpo_s / 60];
  } catch (caught) {
    problem.value = caught;
  }
});
watch([groups, more, source, like], async () => {
  const mine = ++asked;
  problem.value = null;
  try {
    const workloads = await chosen();
    const made = await take(api.POST("/api/v1/plan-suggestions", { body: { workloads, template: template.value?.key ?? "" } }));
    if (mine !== asked) return;
    waves.value = made.waves;
    pieces.value = made.pieces;
    refused.value = new Set();
  } catch (caught) {
    if (mine === asked) problem.value = caught;
  }
});
const inWave = (index: number) => pieces.value.filter((one) => one.kind === "wave" && one.wave === index);
const dependencies = computed(() => pieces.value.filter((one) => one.kind === "dependency"));
const keyOf = (one: Piece) => `${one.workload} ${one.on}`;
function leave(one: Piece) {
  const next = new Set(refused.value);
  if (!next.delete(keyOf(one))) next.add(keyOf(one));
  refused.value = next;
}
const siteName = (one: string) => sites.value?.sites.find((site) => site.code === one)?.name ?? one;
const members = computed(() => model.value ? model.value.waves.reduce((sum, wave) => sum + wave.members.length, 0) : pieces.value.filter((one) => one.kind === "wave").length);
const plan = computed<Plan>(() => ({
  code: code.value.trim(), name: name.value.trim(), source: source.value, target: target.value,
  rto_s: Math.round(rto.value * 60), rpo_s: Math.round(rpo.value * 60),
  owner: model.value?.owner ?? "", drill_every_days: model.value?.drill_every_days ?? 90, needs_standby: model.value?.needs_standby ?? false, tags: model.value?.tags ?? [], notes: model.value?.notes ?? "",
  parts: model.value?.parts ?? [], cues: model.value?.cues ?? template.value?.cues ?? [],
  waves: model.value?.waves ?? waves.value.map((wave, index) => ({
    ...(template.value?.waves[index] ?? newWave(wave)),
    members: inWave(index).map((one) => ({
      ...newMember(one.workload),
      depends_on: dependencies.value.filter((d) => d.workload === one.workload && !refused.value.has(keyOf(d))).map((d) => d.on),
    })),
  })),
}));
async function make(made: Plan) {
  busy.value = true;
  problem.value = null;
  try {
    await take(api.POST("/api/v1/plans", { body: { plan: made } }));
    void client.invalidateQueries();
    await router.push(`/plans/${made.code}`);
  } catch (caught) {
    problem.value = caught;
  } finally {
    busy.value = false;
  }
}
</script>

<template>
  <div class="page">
    <h1 class="sentence">
      <template v-if="members">{{ name || "The new plan" }} would bring up {{ count(members, "workload") }} at {{ siteName(target) }} in {{ count(plan.waves.length, "wave") }}.</template>
      <template v-else>A plan says what comes up where, and in which order. Choose what is in it; the order is proposed from what uses what.</template>
    </h1>
    <ProblemNote v-if="problem" :error="problem" />
    <div class="columns">
      <form class="form" @submit.prevent="make(plan)">
        <el-form-item label="Name"><el-input v-model="name" required maxlength="80" /></el-form-item>
        <div class="two">
          <el-form-item label="Code, which live runs ask for"><el-input v-model="code" class="mono" required maxlength="12" /></el-form-item>
          <span />
          <el-form-item label="From"><el-select v-model="source" filterable default-first-option><el-option v-for="site in sites?.sites ?? []" :key="site.code" :value="site.code" :label="`${site.name}`" /></el-select></el-form-item>
          <el-form-item label="To"><el-select v-model="target" filterable default-first-option><el-option v-for="site in sites?.sites ?? []" :key="site.code" :value="site.code" :label="`${site.name}`" /></el-select></el-form-item>
          <el-form-item label="RTO objective, min"><el-input v-model.number="rto" type="number" min="1" /></el-form-item>
          <el-form-item label="RPO objective, min"><el-input v-model.number="rpo" type="number" min="1" /></el-form-item>
        </div>
        <el-form-item label="Begin"><el-select v-model="like" filterable default-first-option>
          <el-option value="" label="with the order that follows from what uses what" />
          <el-option v-for="one in templates" :key="one.key" :value="one.key" :label="`from a template: ${one.title}`" />
          <el-option v-for="one in listed?.plans ?? []" :key="one.code" :value="`plan:${one.code}`" :label="`as a copy of ${one.name}`" />
        </el-select></el-form-item>
        <p v-if="template" class="quiet">{{ template.says }}</p>
        <template v-if="!copied">
          <h2>Groups in it</h2>
          <p v-if="!ways.length" class="quiet">No group is copied in this direction.</p>
          <el-checkbox v-for="group in ways" :key="group.code" class="block" :model-value="groups.has(group.code)" @change="toggle(group.code)">{{ group.name }} <span class="quiet">{{ count(group.members, "workload") }}</span></el-checkbox>
          <el-form-item label="And whatever this filter finds there"><el-input v-model.lazy="more" class="mono" placeholder="tag:app=booking" /></el-form-item>
        </template>
        <p class="buttons">
          <el-button v-may="'change-plans'" class="btn main" :disabled="busy || !name.trim() || !members" native-type="submit">Make the plan</el-button>
          <el-button class="btn" @click="fromFile = true">From a plan file …</el-button>
        </p>
      </form>
      <div class="proposal">
        <section v-for="(wave, index) in model?.waves ?? []" :key="`m${index}`" :data-wave="index">
          <h2><span class="roman">{{ roman(index + 1) }}</span> {{ wave.name }}</h2>
          <p v-for="one in wave.members" :key="one.workload"><b>{{ one.workload }}</b></p>
        </section>
        <template v-if="!copied">
          <section v-for="(wave, index) in waves" :key="wave + index" :data-wave="index">
            <h2><span class="roman">{{ roman(index + 1) }}</span> {{ wave }}</h2>
            <p v-for="one in inWave(index)" :key="one.workload"><b>{{ one.workload }}</b> <span class="quiet">{{ one.reason }}</span></p>
          </section>
          <section v-if="dependencies.length">
            <h2>Waiting within a wave</h2>
            <el-checkbox v-for="one in dependencies" :key="keyOf(one)" class="piece" :model-value="!refused.has(keyOf(one))" @change="leave(one)"><b>{{ one.workload }}</b> waits for <b>{{ one.on }}</b> <span class="quiet">{{ one.reason }}</span></el-checkbox>
          </section>
        </template>
        <p v-if="members" class="quiet">Delays, holds and everything else are set on the plan's own page.</p>
      </div>
    </div>
    <PlanFileDrawer v-if="fromFile" v-model="fromFile" :plan="null" title="A new plan from a file" @take="make" />
  </div>
</template>

<style scoped>
.columns {
  display: grid;
  grid-template-columns: 400px 1fr;
  gap: var(--gap-5);
  margin-top: var(--gap-4);
}
.form .block {
  display: block;
  margin: 0 0 4px;
}
.proposal section {
  margin-bottom: var(--gap-3);
}
.piece {
  display: block;
}
@media (max-width: 900px) {
  .columns {
    grid-template-columns: 1fr;
  }
}
</style>
