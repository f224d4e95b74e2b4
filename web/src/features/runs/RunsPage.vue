<script setup lang="ts">
import { useQuery } from "@tanstack/vue-query";
import { computed } from "vue";
import { useRouter } from "vue-router";
import { api, take } from "@/api/client";
import type { RunLine } from "@/api/types";
import ProblemNote from "@/ui/ProblemNote.vue";
import { clock, count, moment } from "@/ui/format";

const router = useRouter();
const { data, error } = useQuery({
  queryKey: ["runs"],
  queryFn: () => take(api.GET("/api/v1/runs")),
  refetchInterval: 4000,
});
const active = computed(() => (data.value ?? []).filter((run) => !run.outcome).length);
const shapes: Record<string, string> = { passed: "✓ passed", failed: "✕ failed", inconclusive: "? inconclusive", aborted: "– aborted", committed: "✓ committed", "rolled back": "↶ rolled back", protected: "✓ protected" };
const late = (run: RunLine) => run.ready_s !== null && run.ready_s > run.rto_objective_s;
</script>

<template>
  <div class="page">
    <ProblemNote v-if="error && !data" :error="error" />
    <template v-if="data">
      <h1 class="sentence">
        <template v-if="!data.length">Nothing was ever run. The proof of a plan begins with its first test.</template>
        <template v-else>
          {{ count(data.length, "run") }} so far, <b>{{ active || "none" }}</b> under way.
        </template>
      </h1>
      <div class="scroll">
        <table v-if="data.length">
          <thead>
            <tr>
              <th>Run</th>
              <th>Plan</th>
              <th>Kind</th>
              <th>Direction</th>
              <th>Started</th>
              <th>By</th>
              <th>Time to recover</th>
              <th>Outcome</th>
              <th>Notes</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="run in data" :key="run.id" @click="router.push(`/runs/${run.id}`)">
              <td class="mono">
                <RouterLink :to="`/runs/${run.id}`">{{ run.id }}</RouterLink>
              </td>
              <td>{{ run.plan_name }} <span class="quiet">v{{ run.plan_version }}</span></td>
              <td><span :class="`kind-${run.kind}`">{{ run.kind }}</span></td>
              <td class="mono">{{ run.source }} → {{ run.target }}</td>
              <td>{{ moment(run.started_at) }}</td>
              <td>{{ run.started_by }}</td>
              <td class="mono" :class="{ bad: late(run) }">
                <template v-if="run.ready_s !== null">{{ clock(run.ready_s) }} of {{ clock(run.rto_objective_s) }}{{ late(run) ? " ✕" : "" }}</template>
                <template v-else>–</template>
              </td>
              <td :class="{ bad: run.outcome === 'failed' }">{{ shapes[run.outcome] ?? "◔ under way" }}</td>
              <td class="notes">{{ run.notes }}</td>
            </tr>
          </tbody>
        </table>
      </div>
    </template>
  </div>
</template>

<style scoped>
.scroll {
  overflow-x: auto;
}
table {
  width: 100%;
  border-collapse: collapse;
  margin-top: var(--gap-3);
}
th {
  text-align: left;
  color: var(--ink-2);
  padding: 8px 12px 8px 0;
  border-bottom: 1px solid var(--rule);
}
td {
  padding: 8px 12px 8px 0;
  border-bottom: 1px solid var(--rule);
  vertical-align: top;
  white-space: nowrap;
}
td.notes {
  white-space: normal;
  color: var(--ink-2);
}
tr {
  cursor: pointer;
}
tbody tr:hover {
  background: var(--rule-faint);
}
</style>
