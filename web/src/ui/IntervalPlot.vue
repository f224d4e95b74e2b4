<script setup lang="ts">
// The forecast against its objective: a pill from p10 to p95, a stroke at the median, a T at the objective.
import { computed } from "vue";
import type { ForecastFigures } from "@/api/types";
import { clock, duration } from "@/ui/format";

const props = defineProps<{ forecast: ForecastFigures; scale: number }>();
const WIDTH = 226;
const x = (s: number) => (s / props.scale) * (WIDTH - 64);
const late = computed(() => props.forecast.p80_s > props.forecast.objective_s);
const words = computed(
  () =>
    `Likely ${duration(props.forecast.p50_s)}, between ${duration(props.forecast.p10_s)} and ` +
    `${duration(props.forecast.p95_s)}; objective ${duration(props.forecast.objective_s)}`,
);
</script>

<template>
  <svg :width="WIDTH" height="26" role="img" :aria-label="words">
    <title>{{ words }}</title>
    <line x1="0" :x2="WIDTH" y1="13" y2="13" class="line" />
    <rect
      :x="x(forecast.p10_s)"
      y="9"
      :width="Math.max(x(forecast.p95_s) - x(forecast.p10_s), 6)"
      height="8"
      rx="4"
      :class="late ? 'late' : 'fine'"
    />
    <line :x1="x(forecast.p50_s)" :x2="x(forecast.p50_s)" y1="7" y2="19" class="median" />
    <path :d="`M${x(forecast.objective_s) - 4} 4 h8 m-4 0 v18`" class="objective" />
    <text :x="x(forecast.objective_s) + 7" y="22">{{ clock(forecast.objective_s) }}</text>
  </svg>
</template>

<style scoped>
.line {
  stroke: var(--rule);
  stroke-width: 2;
}
.fine {
  fill: var(--test-soft);
  stroke: var(--test);
}
.late {
  fill: var(--disaster-soft);
  stroke: var(--disaster);
}
.median {
  stroke: var(--ink-1);
  stroke-width: 2.5;
}
.objective {
  fill: none;
  stroke: var(--ink-1);
  stroke-width: 1.6;
}
text {
  font-family: var(--mono);
  font-size: 11px;
  fill: var(--ink-2);
}
</style>
