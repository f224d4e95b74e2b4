<script setup lang="ts">
import { computed, ref } from "vue";
import { usePlans } from "@/api/queries";
import type { PlanLine } from "@/api/types";
import { pin, pinned } from "@/app/planShelf";
import PlanCould from "@/ui/PlanCould.vue";
import PlanProof from "@/ui/PlanProof.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import SiteWay from "@/ui/SiteWay.vue";
import { count, duration, moment } from "@/ui/format";
import { wordsOf } from "@/ui/standing";

const { data, error } = usePlans();
const words = ref("");
const only = ref("");

const all = computed(() => (data.value?.plans ?? []).map((plan) => ({ plan, states: wordsOf(plan.standing) })));
/** Only states that some plan is in are offered. */
const states = computed(() => ["blocked", "ready", "too slow", "overdue", "never tested", "under way"].map((name) => ({ name, n: all.value.filter((one) => one.states.includes(name)).length })).filter((one) => one.n));
const shown = computed(() => {
  const wanted = words.value.toLowerCase().split(/\s+/).filter(Boolean);
  const text = (plan: PlanLine) => `${plan.name} ${plan.code} ${plan.owner} ${plan.source} ${plan.target} ${plan.tags.join(" ")}`.toLowerCase();
  return all.value.filter((one) => (!only.value || one.states.includes(only.value)) && wanted.every((word) => text(one.plan).includes(word))).map((one) => one.plan);
});
const by = (value: (plan: PlanLine) => number | string) => (a: PlanLine, b: PlanLine) => {
  const [one, other] = [value(a), value(b)];
  return one < other ? -1 : one > other ? 1 : 0;
};
const isLate = (plan: PlanLine) => plan.standing?.at_risk_s === null || (plan.standing?.at_risk_s ?? 0) > plan.rpo_s;
</script>

<template>
  <div class="page">
    <div class="top">
      <h1 class="sentence">
        <template v-if="data">{{ count(data.plans.length, "plan") }}<template v-for="one in states.slice(0, 3)" :key="one.name">, <b>{{ one.n }}</b> {{ one.name }}</template>.</template>
        <template v-else>Plans</template>
      </h1>
      <RouterLink v-may="'change-plans'" to="/plans/new" class="btn main">New plan</RouterLink>
    </div>
    <p v-if="data?.as_of" class="under">How they stand is as of {{ moment(data.as_of, true) }}.</p>
    <ProblemNote v-if="error && !data" :error="error" />
    <div class="narrow">
      <el-input v-model="words" class="find" clearable aria-label="Find a plan" placeholder="Name, code, owner, tag or site" />
      <el-radio-group v-model="only" aria-label="Only plans that are">
        <el-radio-button value="">all</el-radio-button>
        <el-radio-button v-for="one in states" :key="one.name" :value="one.name">{{ one.name }} {{ one.n }}</el-radio-button>
      </el-radio-group>
    </div>
    <el-skeleton v-if="!data && !error" :rows="8" animated />
    <el-table v-else-if="data?.plans.length" :data="shown" row-key="code" aria-label="Plans" empty-text="No plan fits. Clear what you narrowed by.">
      <el-table-column width="44">
        <template #header><span class="out-of-sight">Pinned</span></template>
        <template #default="{ row }">
          <button class="link pin" :aria-pressed="pinned.includes(row.code)" :aria-label="`Keep ${row.name} in the side bar`" :title="`Keep ${row.name} in the side bar`" @click="pin(row.code)">{{ pinned.includes(row.code) ? "★" : "☆" }}</button>
        </template>
      </el-table-column>
      <el-table-column label="Plan" sortable :sort-method="by((plan) => plan.name)" min-width="190">
        <template #default="{ row }">
          <RouterLink :to="`/plans/${row.code}`" class="name">{{ row.name }}</RouterLink>
          <p class="quiet"><span class="mono">{{ row.code }}</span>, {{ count(row.workloads, "workload") }} <el-tag v-for="tag in row.tags" :key="tag" size="small" type="info">{{ tag }}</el-tag></p>
        </template>
      </el-table-column>
      <el-table-column label="Direction" min-width="110">
        <template #default="{ row }"><SiteWay :source="row.source" :target="row.target" /></template>
      </el-table-column>
      <el-table-column label="Likely, of objective" sortable :sort-method="by((plan) => plan.standing?.forecast?.p50_s ?? Infinity)" min-width="120">
        <template #default="{ row }">
          <span v-if="row.standing?.forecast" :class="{ bad: row.standing.forecast.p80_s > row.rto_s }">{{ duration(row.standing.forecast.p50_s) }} of {{ duration(row.rto_s) }}</span>
          <span v-else-if="row.standing" class="bad">no forecast</span>
          <span v-else class="quiet">being assessed</span>
        </template>
      </el-table-column>
      <el-table-column label="Data at risk" sortable :sort-method="by((plan) => plan.standing?.at_risk_s ?? Infinity)" min-width="130">
        <template #default="{ row }">
          <span v-if="row.standing" :class="{ bad: isLate(row) }">{{ row.standing.at_risk_s === null ? row.standing.no_risk_because : `${duration(row.standing.at_risk_s)} of ${duration(row.rpo_s)}` }}</span>
        </template>
      </el-table-column>
      <el-table-column label="Last proof" sortable :sort-method="by((plan) => plan.standing?.last_proof?.ended_at ?? '')" min-width="140">
        <template #default="{ row }"><PlanProof v-if="row.standing" :proof="row.standing.last_proof" /></template>
      </el-table-column>
      <el-table-column label="Could it run now?" min-width="220">
        <template #default="{ row }"><PlanCould v-if="row.standing" :code="row.code" :kinds="row.standing.kinds" :active-run="row.standing.active_run" /></template>
      </el-table-column>
      <el-table-column label="Owner" sortable :sort-method="by((plan) => plan.owner)" min-width="120">
        <template #default="{ row }">{{ row.owner }}</template>
      </el-table-column>
    </el-table>
    <el-empty v-else-if="data" description="There is no plan yet, so nothing could be recovered."><RouterLink v-may="'change-plans'" to="/plans/new" class="btn main">Make the first one</RouterLink></el-empty>
  </div>
</template>

<style scoped>
.top {
  display: flex;
  justify-content: space-between;
  align-items: start;
  gap: var(--gap-4);
}
.narrow {
  display: flex;
  flex-wrap: wrap;
  gap: var(--gap-2) var(--gap-4);
  margin: var(--gap-3) 0;
}
.find {
  width: min(320px, 100%);
}
.name {
  font-weight: 700;
  text-decoration: none;
}
.name:hover {
  text-decoration: underline;
}
.pin {
  font-size: var(--text-l);
}
</style>
