<script setup lang="ts">
// What a run waits for, and how it stands, in the sentence that its page opens with.
import { computed } from "vue";
import type { RunStatus } from "@/api/types";
import { against, clock, count, duration, list } from "@/ui/format";
import { headline } from "@/ui/waiting";

const props = defineProps<{ status: RunStatus; runS: number; wall: number }>();
const first = computed(() => props.status.needs[0]);
const ready = computed(() => props.status.ready_s);
const isTest = computed(() => props.status.kind === "test");
const isLive = computed(() => props.status.kind === "planned" || props.status.kind === "disaster");
const failures = computed(() => props.status.needs.filter((need) => need.kind === "failure").length);
</script>

<template>
  <h1 class="sentence">
    <span v-if="first" class="waits" data-testid="waits">{{ headline(first, wall) }}.</span>
    <span :class="`kind-${status.kind}`">{{ status.kind }}</span> {{ status.lead }}
    <template v-if="failures"><b class="bad">{{ count(failures, "step") }} failed and waits for you.</b></template>
    <template v-else-if="status.phase === 'bring-up'">
      <b>{{ status.copies_ready }} of {{ status.copies }}</b> are ready, and it should finish in about
      <b>{{ duration(Math.max(status.expected_ready_s - runS, 0)) }}</b
      >.
    </template>
    <template v-else-if="ready !== null && status.outcome !== 'rolled back'">
      {{ isLive ? "Recovered in" : "Everything was up in" }} <b>{{ clock(ready) }}</b>, {{ against(ready, status.rto_objective_s) }}.
    </template>
    <template v-if="status.remains && status.outcome && isTest">{{ status.remains.length ? `Left behind: ${list(status.remains)}.` : "Nothing is left behind." }}</template>
  </h1>
</template>

<style scoped>
.waits {
  display: block;
  font-weight: 700;
}
</style>
