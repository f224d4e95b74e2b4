<script setup lang="ts">
// The points that a ladder would keep, on an axis of age that is wide where points are dense.
import { computed } from "vue";
import { count } from "@/ui/format";

const props = defineProps<{ points: number[] }>();
const WIDE = 520;
const AGES = [
  { label: "1 min", s: 60 },
  { label: "1 h", s: 3600 },
  { label: "6 h", s: 6 * 3600 },
  { label: "2 days", s: 2 * 86_400 },
  { label: "14 days", s: 14 * 86_400 },
  { label: "90 days", s: 90 * 86_400 },
  { label: "1 year", s: 365 * 86_400 },
  { label: "10 years", s: 3650 * 86_400 },
];
const newest = computed(() => props.points.at(-1) ?? 0);
const oldest = computed(() => Math.max(newest.value - (props.points[0] ?? 0), 3600));
const x = (age: number) => WIDE - (Math.log1p(age / 60) / Math.log1p(oldest.value / 60)) * (WIDE - 30) - 20;
const marks = computed(() => AGES.filter((age) => age.s <= oldest.value * 1.05));
// Where marks would lie upon each other one is enough.
const drawn = computed(() => [...new Set(props.points.map((at) => Math.round(x(newest.value - at) * 1.5) / 1.5))]);
</script>

<template>
  <svg :viewBox="`0 0 ${WIDE} 46`" role="img" :aria-label="`${count(points.length, 'point')}`">
    <line x1="0" :x2="WIDE" y1="22" y2="22" class="axis" />
    <line v-for="at in drawn" :key="at" :x1="at" :x2="at" y1="8" y2="22" class="point" />
    <g v-for="mark in marks" :key="mark.label">
      <line :x1="x(mark.s)" :x2="x(mark.s)" y1="22" y2="27" class="axis" />
      <text :x="x(mark.s)" y="40" :text-anchor="x(mark.s) < 24 ? 'start' : 'middle'">{{ mark.label }}</text>
    </g>
    <text :x="WIDE - 14" y="40" text-anchor="middle">now</text>
  </svg>
</template>

<style scoped>
svg {
  width: 100%;
}
.axis {
  stroke: var(--ink-2);
}
.point {
  stroke: var(--ink-1);
  stroke-width: 1;
}
text {
  font-size: 11px;
  fill: var(--ink-2);
}
</style>
