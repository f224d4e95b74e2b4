<script setup lang="ts">
// Who can be written to, who is fenced, which way: a line for each group.
import type { RunStatus } from "@/api/types";
import { duration, rate, size } from "@/ui/format";

defineProps<{ status: RunStatus }>();
type Used = RunStatus["groups"][number];
function fenced(group: Used): string {
  if (!group.fenced) return "none fenced";
  return group.fenced === group.members ? "all fenced" : `${group.fenced} of ${group.members} fenced`;
}
function copied(group: Used): string {
  const left = group.whole_bytes - group.done_bytes;
  if (left <= 0) return "all copied";
  const done = `${size(group.done_bytes)} of ${size(group.whole_bytes)}`;
  if (group.rate_bps <= 0) return `${done}, waits`;
  const faster = group.pace === 1 ? "" : `, ${group.pace} times as fast in practice`;
  return `${done} at ${rate(group.rate_bps)}${faster}, ${duration(left / (group.rate_bps * group.pace))} left`;
}
</script>

<template>
  <section aria-label="Copies">
    <h2>Copies</h2>
    <ul>
      <li v-for="group in status.groups" :key="group.group">
        <span class="mono">{{ group.group }}</span>
        <span v-if="status.outcome" class="quiet">{{ group.stage || "no longer protected" }}</span>
        <span v-else-if="status.kind === 're-protect'">
          {{ group.whole_bytes ? copied(group) : "what differs is being found" }}
          <progress v-if="group.whole_bytes" :value="group.done_bytes" :max="group.whole_bytes" :aria-label="`${group.group} copied`" />
        </span>
        <span v-else>
          {{ group.writable ? `writable at ${group.writable}` : "writable nowhere now" }}, {{ status.source }} {{ fenced(group) }}
        </span>
      </li>
    </ul>
  </section>
</template>

<style scoped>
li {
  display: grid;
  grid-template-columns: 96px 1fr;
  gap: 6px;
  padding: 2px 0;
}
progress {
  width: 100%;
  height: 8px;
  accent-color: var(--planned);
}
</style>
