<script setup lang="ts">
import type { ReportView } from "@/api/types";
import { count, duration, exactMoment } from "@/ui/format";

defineProps<{ report: ReportView }>();
</script>

<template>
  <section>
    <h2>Objectives</h2>
    <div class="scroll" tabindex="0"><table class="lines">
      <thead><tr><th>What</th><th>Objective</th><th>Achieved</th><th>From the point of</th></tr></thead>
      <tbody>
        <tr v-if="report.kind !== 're-protect'">
          <td>Time to recover (RTO), the plan</td>
          <td class="mono">{{ duration(report.rto_objective_s) }}</td>
          <td :class="{ bad: !report.rto_met }">
            <template v-if="report.facts.rto_s === null">✕ never up as a whole</template>
            <template v-else>{{ report.rto_met ? "✓" : "✕" }} {{ duration(report.facts.rto_s) }}</template>
          </td>
          <td />
        </tr>
        <tr v-for="group in report.groups" :key="group.group">
          <td>
            Data at risk (RPO), {{ group.group }} <span class="quiet">{{ count(group.workloads.length, "workload") }}</span>
            <div v-for="(from, name) in group.apart" :key="name" class="quiet">▲ {{ name }} from {{ exactMoment(from) }}</div>
          </td>
          <td class="mono">{{ duration(report.rpo_objective_s) }}</td>
          <td :class="{ bad: group.met === false }">
            <template v-if="group.rpo_s === null">–</template>
            <template v-else>{{ group.met ? "✓" : "✕" }} {{ duration(group.rpo_s) }}</template>
          </td>
          <td class="quiet">{{ group.point_at ? `${exactMoment(group.point_at)}, ${group.point_kind}` : "–" }}</td>
        </tr>
      </tbody>
    </table></div>
  </section>
</template>

<style scoped>
h2 {
  margin: var(--gap-4) 0 var(--gap-1);
}
</style>
