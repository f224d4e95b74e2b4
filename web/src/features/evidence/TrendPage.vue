<script setup lang="ts">
// A plan over all its runs: what got slower, and whether it keeps what it promises.
import { useQuery } from "@tanstack/vue-query";
import { computed } from "vue";
import { useRoute } from "vue-router";
import { api, take } from "@/api/client";
import type { TrendRun } from "@/api/types";
import TrendChart from "@/features/evidence/TrendChart.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { count, duration } from "@/ui/format";

const route = useRoute();
const code = computed(() => String(route.params.code));
const { data, error } = useQuery({
  queryKey: ["trend", code],
  queryFn: () => take(api.GET("/api/v1/plans/{code}/trend", { params: { path: { code: code.value } } })),
});
const runs = computed(() => data.value?.runs ?? []);
const judged = computed(() => runs.value.filter((run) => run.rto_s !== null));
const met = computed(() => judged.value.filter((run) => (run.rto_s ?? 0) <= run.rto_objective_s).length);
const latest = computed(() => judged.value.at(-1));
const before = computed(() => {
  const took = judged.value.slice(0, -1).map((run) => run.rto_s ?? 0);
  if (!took.length) return "";
  const middle = [...took].sort((a, b) => a - b)[Math.floor((took.length - 1) / 2)] ?? 0;
  return took.length < 3 ? `the one before ${duration(took.at(-1))}` : `those before ${duration(middle)} in the middle`;
});
const ofRto = (run: TrendRun) => run.rto_objective_s;
const ofRpo = () => data.value?.rpo_objective_s ?? 0;
</script>

<template>
  <div class="page">
    <ProblemNote v-if="error" :error="error" />
    <template v-if="data">
      <h1 class="sentence">
        <template v-if="!runs.length">{{ data.plan_name }} was never run, so nothing is known of how it goes.</template>
        <template v-else-if="!latest">{{ data.plan_name }} was run {{ count(runs.length, "time") }} and never came up as a whole.</template>
        <template v-else>
          {{ data.plan_name }} came up within its objective in <b>{{ met }} of {{ count(runs.length, "run") }}</b>; the last took
          <RouterLink :to="`/runs/${latest.run}/evidence`">{{ duration(latest.rto_s) }}</RouterLink>{{ before && `, ${before}` }}.
        </template>
      </h1>
      <p class="under"><RouterLink :to="`/plans/${data.plan}`">The plan</RouterLink> · <RouterLink :to="`/runs?plan=${data.plan}`">its runs as a list</RouterLink></p>
      <div v-if="runs.length" class="charts">
        <TrendChart title="Time to recover" :runs="runs" :value="(run) => run.rto_s" seconds :say="duration" :objective="ofRto" :now="data.rto_objective_s" />
        <TrendChart title="Oldest point" :runs="runs" :value="(run) => run.rpo_s" seconds :say="duration" :objective="ofRpo" :now="data.rpo_objective_s" />
        <TrendChart title="Waiting for people" :runs="runs" :value="(run) => run.people_s" seconds :say="duration" />
        <TrendChart title="Tries that failed" :runs="runs" :value="(run) => run.failures" :say="(n) => String(n)" />
      </div>
      <p v-if="runs.length" class="quiet">Oldest first; below each mark its run. Tests have a dashed edge, planned a solid indigo, disasters a vermilion one; a filled mark missed its objective, a cross never came up as a whole.</p>
    </template>
    <p v-else-if="!error" class="quiet">Reading all runs …</p>
  </div>
</template>

<style scoped>
.charts {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(440px, 1fr));
  gap: var(--gap-2) var(--gap-5);
  margin-bottom: var(--gap-3);
}
@media (max-width: 640px) {
  .charts {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
