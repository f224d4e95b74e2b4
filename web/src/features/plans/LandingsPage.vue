<script setup lang="ts">
// Where the members of a plan come down: before and after, live and in a test.
import { useQuery } from "@tanstack/vue-query";
import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { api, take } from "@/api/client";
import { usePlan } from "@/api/queries";
import type { LandingRow } from "@/api/types";
import DoorLandings from "@/ui/DoorLandings.vue";
import FindingList from "@/ui/FindingList.vue";
import LandingTable from "@/ui/LandingTable.vue";
import ProblemNote from "@/ui/ProblemNote.vue";
import { count } from "@/ui/format";

const route = useRoute();
const router = useRouter();
const code = computed(() => String(route.params.code));
const filter = ref("");
const { data: detail } = usePlan(code);
const { data, error } = useQuery({
  queryKey: ["plan-landings", code, filter],
  queryFn: () => take(api.GET("/api/v1/plans/{code}/landings", { params: { path: { code: code.value }, query: { filter: filter.value } } })),
  placeholderData: (before) => before,
  retry: false,
});
const way = computed(() => detail.value && `/crosswalks/${detail.value.plan.source}/${detail.value.plan.target}`);
const change = (row: LandingRow) => void router.push(`${way.value}?tab=landings&filter=${encodeURIComponent(row.workload)}`);
</script>

<template>
  <div class="page">
    <h1 v-if="detail" class="sentence">
      <RouterLink :to="`/plans/${code}`">{{ detail.plan.name }}</RouterLink><template v-if="data">: {{ count(data.adapters, "network adapter") }} of {{ count(data.workloads, "workload") }} {{ data.adapters === 1 ? "gets" : "get" }} new settings at {{ detail.target_name }}.<template v-if="!data.blocks && !data.warns"> Nothing is wrong with where they land.</template></template>
    </h1>
    <ProblemNote v-if="error" :error="error" />
    <p v-if="detail" class="bar">
      <el-input v-model.lazy="filter" class="entry mono wide" aria-label="Filter" placeholder="tag:tier=data" />
      <RouterLink v-if="way" class="btn" :to="way">The crosswalk</RouterLink>
      <RouterLink class="btn" :to="`/plans/${code}`">Back to the plan</RouterLink>
    </p>
    <template v-if="data">
      <FindingList v-if="data.findings.length" :findings="data.findings.map((one) => one.finding)" compact />
      <DoorLandings v-if="data.doors.length" :doors="data.doors" />
      <LandingTable :rows="data.rows" none="The filter finds no member." @open="change" />
    </template>
  </div>
</template>

<style scoped>
.bar {
  display: flex;
  flex-wrap: wrap;
  gap: var(--gap-3);
  margin: var(--gap-3) 0;
}
.wide {
  width: min(320px, 100%);
}
</style>
