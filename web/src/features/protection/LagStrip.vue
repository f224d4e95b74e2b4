<script setup lang="ts">
// How far behind a group was over the last day, against its objective.
import { computed } from "vue";
import { duration } from "@/ui/format";

const props = defineProps<{ lags: number[]; everyS: number; objectiveS: number }>();
const WIDE = 190;
const HIGH = 28;
const top = computed(() => Math.max(props.objectiveS * 1.6, ...props.lags));
const y = (lag: number) => HIGH - 2 - (Math.min(lag, top.value) / top.value) * (HIGH - 5);
const points = computed(() => {
  const n = Math.max(props.lags.length, 2);
  return props.lags.map((lag, i) => `${((i / (n - 1)) * WIDE).toFixed(1)} ${y(lag).toFixed(1)}`);
});
const over = computed(() => props.lags.filter((lag) => lag > props.objectiveS).length);
const said = computed(() =>
  props.lags.length
    ? `Lag over the last ${duration(props.lags.length * props.everyS)}: at most ${duration(Math.max(...props.lags))}, over its objective for ${duration(over.value * props.everyS)}`
    : "No lag is known yet",
);
</script>

<template>
  <svg :width="WIDE" :height="HIGH" role="img" :aria-label="said">
    <title>{{ said }}</title>
    <path v-if="points.length" :d="`M0 ${HIGH - 2} L${points.join(' L')} V${HIGH - 2} Z`" class="area" :class="{ over }" />
    <line x1="0" :x2="WIDE" :y1="y(objectiveS)" :y2="y(objectiveS)" class="objective" />
  </svg>
</template>

<style scoped>
svg {
  display: block;
}
.area {
  fill: var(--rule);
  stroke: var(--ink-3);
  stroke-width: 0.8;
}
.area.over {
  fill: var(--disaster-soft);
  stroke: var(--disaster);
}
.objective {
  stroke: var(--ink-1);
  stroke-width: 1.2;
}
</style>
