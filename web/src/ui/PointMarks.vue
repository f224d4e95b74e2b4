<script setup lang="ts">
// The recovery points of one group, as a row of marks on the time axis.
import type { RecoveryPoint } from "@/api/types";
import { moment } from "@/ui/format";
import { type PointRow, UNUSUAL, timesUsual } from "@/ui/pointTimeline";

/** `x` gives the pixel of a time in ms; what lies left of `left` is not seen. */
defineProps<{ group: PointRow; points: RecoveryPoint[]; chosen: RecoveryPoint | undefined; y: number; x: (ms: number) => number; left: number }>();
const ms = (point: RecoveryPoint) => new Date(point.at).getTime();
const about = (group: PointRow, point: RecoveryPoint) =>
  [
    moment(point.at, true),
    point.kind,
    point.label ? `pinned: ${point.label}` : "",
    group.proved[point.id] ? `proved by run ${group.proved[point.id]}` : "",
    point.anomaly >= UNUSUAL ? `${timesUsual(point.anomaly)} changes` : "",
  ]
    .filter(Boolean)
    .join(", ");
</script>

<template>
  <g>
    <text x="0" :y="y + 8" class="name">{{ group.name }}</text>
    <g v-for="point in points" :key="point.id" :class="{ pinned: point.label }">
      <title>{{ about(group, point) }}</title>
      <circle v-if="point.kind === 'crash-consistent'" :cx="x(ms(point))" :cy="y + 4" r="2.3" class="point" />
      <path v-else :d="`M${x(ms(point))} ${y - 1} l5 5 l-5 5 l-5 -5 z`" class="point" />
      <path v-if="point.label" :d="`M${x(ms(point))} ${y + 4} v-15 h9 l-3 3.5 l3 3.5 h-9`" class="flag" />
      <path v-if="group.proved[point.id]" :d="`M${x(ms(point)) - 5} ${y + 11} l3 4 l6 -7`" class="proof" />
    </g>
    <circle v-if="chosen && x(ms(chosen)) >= left" :cx="x(ms(chosen))" :cy="y + 4" r="6" class="ring" />
  </g>
</template>

<style scoped>
text {
  font-size: 12px;
  font-family: var(--sans);
}
.name {
  fill: var(--ink-1);
}
.point {
  fill: var(--ink-1);
}
.flag {
  fill: var(--brass);
  stroke: var(--brass);
}
.proof {
  fill: none;
  stroke: var(--test);
  stroke-width: 2;
}
.ring {
  fill: none;
  stroke: var(--brass);
  stroke-width: 2;
}
</style>
