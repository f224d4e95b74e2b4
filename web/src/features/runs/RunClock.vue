<script setup lang="ts">
// How long it has taken, against its objective.
import { computed } from "vue";
import type { RunStatus } from "@/api/types";
import { clock, duration } from "@/ui/format";

const props = defineProps<{ status: RunStatus; runS: number }>();
const ready = computed(() => props.status.ready_s);
const shownClock = computed(() => ready.value ?? props.runS);
const end = computed(() => Math.max(props.status.rto_objective_s, props.status.expected_ready_s, shownClock.value, 1));
const percent = (s: number) => `${Math.min((s / end.value) * 100, 100)}%`;
</script>

<template>
  <div>
    <p class="time">
      <span class="clock mono" data-testid="run-time">{{ clock(shownClock, true) }}</span>
      <span v-if="status.kind !== 're-protect'" class="mono quiet">of {{ clock(status.rto_objective_s) }}</span>
    </p>
    <div v-if="status.kind !== 're-protect'" class="gauge" role="img" :aria-label="`${duration(shownClock)} of ${duration(status.rto_objective_s)}`">
      <i class="gone" :style="{ width: percent(shownClock) }" :class="{ late: shownClock > status.rto_objective_s }" />
      <i v-if="ready === null" class="likely" :style="{ left: percent(status.expected_ready_s) }" />
    </div>
    <p class="quiet">
      <template v-if="status.outcome && ready === null">{{ status.kind === "re-protect" ? "it took that long" : "it never came up" }}</template>
      <template v-else-if="ready === null">likely ready at {{ clock(status.expected_ready_s) }}</template>
      <template v-else>all checks through at {{ clock(ready) }}</template>
      <template v-if="status.added_s !== null && status.added_s >= 1">, {{ duration(status.added_s) }} of it Maestoso's own</template>
      <template v-if="status.people_s >= 1">, {{ duration(status.people_s) }} waiting for people</template>
    </p>
  </div>
</template>

<style scoped>
.time {
  display: flex;
  justify-content: space-between;
  align-items: baseline;
}
.clock {
  font-size: var(--text-clock);
  line-height: 1.15;
}
.gauge {
  position: relative;
  height: 9px;
  background: var(--rule);
  margin: 4px 0;
}
.gauge i {
  position: absolute;
  top: 0;
  height: 100%;
}
.gone {
  background: var(--ink-1);
}
.gone.late {
  background: var(--disaster);
}
.likely {
  width: 6px;
  margin-left: -3px;
  background: var(--brass);
}
</style>
