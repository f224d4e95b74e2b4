<script setup lang="ts">
import type { RunStatus } from "@/api/types";
import { moment } from "@/ui/format";

defineProps<{ status: RunStatus }>();
</script>

<template>
  <section>
    <h2>Facts</h2>
    <dl>
      <template v-if="status.outcome">
        <dt>Evidence</dt>
        <dd><RouterLink :to="`/runs/${status.id}/evidence`">Report, seal and notes</RouterLink></dd>
      </template>
      <dt>Landings</dt>
      <dd><RouterLink :to="`/runs/${status.id}/landings`">Planned and actual addresses</RouterLink></dd>
      <dt>Run</dt>
      <dd>{{ status.id }}, version {{ status.plan_version }} of <RouterLink :to="`/plans/${status.plan}`">{{ status.plan }}</RouterLink></dd>
      <dt>Started</dt>
      <dd>{{ moment(status.started_at) }} by {{ status.started_by }}</dd>
      <dt>Pace</dt>
      <dd>{{ status.pace }}</dd>
      <dt>Points</dt>
      <dd v-if="status.kind === 're-protect'">differences only</dd>
      <dd v-else><div v-for="group in status.groups" :key="group.group">{{ group.group }} {{ group.at ? moment(group.at, true) : "newest" }}</div></dd>
    </dl>
  </section>
</template>

<style scoped>
dl {
  display: grid;
  grid-template-columns: 62px 1fr;
  gap: 2px 6px;
  margin: 4px 0;
}
dt {
  color: var(--ink-2);
}
dd {
  margin: 0;
}
</style>
