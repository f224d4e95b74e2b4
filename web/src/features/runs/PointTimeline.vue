<script setup lang="ts">
// Recovery points on a time axis: the change rate above, a row of points for each group below. One moment
// is chosen for all groups; each takes its newest point at or before it.
import { computed, onMounted, onScopeDispose, ref, useTemplateRef } from "vue";
import type { GroupPoints, RecoveryPoint } from "@/api/types";
import { duration, moment } from "@/ui/format";

const props = defineProps<{ groups: GroupPoints[]; now: string; at: number; newest: boolean; chosen: Record<string, RecoveryPoint | undefined> }>();
const emit = defineEmits<{ pick: [at: number] }>();

const RANGES = [
  { label: "last hour", seconds: 3600 },
  { label: "2 days", seconds: 2 * 86_400 },
  { label: "14 days", seconds: 14 * 86_400 },
];
const range = ref(1);
const box = useTemplateRef<HTMLElement>("box");
const width = ref(900);
const observer = new ResizeObserver(([entry]) => {
  if (entry) width.value = entry.contentRect.width;
});
onMounted(() => box.value && observer.observe(box.value));
onScopeDispose(() => observer.disconnect());

const LEFT = 128;
const CURVE = 74;
const ROW = 19;
const UNUSUAL = 3;
const end = computed(() => new Date(props.now).getTime());
const begin = computed(() => end.value - (RANGES[range.value]?.seconds ?? 3600) * 1000);
const x = (ms: number) => LEFT + ((ms - begin.value) / (end.value - begin.value)) * (width.value - LEFT - 12);
const ms = (point: RecoveryPoint) => new Date(point.at).getTime();
const height = computed(() => CURVE + props.groups.length * ROW + 24);

const shown = computed(() =>
  props.groups.map((group) => {
    const inside = group.points.filter((point) => ms(point) >= begin.value);
    // No more points than there are pixels for; application-consistent ones are never left out.
    const step = Math.max(Math.ceil(inside.length / (width.value / 7)), 1);
    return inside.filter((point, i) => i % step === 0 || point.kind === "application-consistent");
  }),
);

// The group with the most unusual change speaks for all: that is what one looks for here.
const loudest = computed(() => {
  const most = (group: GroupPoints) => Math.max(0, ...group.changes.map((one) => one.anomaly));
  return [...props.groups].sort((a, b) => most(b) - most(a))[0];
});
const curve = computed(() => {
  const rates = (loudest.value?.changes ?? []).map((one) => ({ at: new Date(one.at).getTime(), times: one.anomaly }));
  const seen = rates.filter((one) => one.at >= begin.value);
  const first = seen[0];
  if (!first) return { area: "", bursts: [] };
  const top = Math.max(3, ...seen.map((one) => one.times));
  const y = (times: number) => CURVE - 6 - (times / top) * (CURVE - 26);
  const line = seen.map((one) => `${x(one.at).toFixed(1)} ${y(one.times).toFixed(1)}`);
  const area = `M${x(first.at)} ${CURVE - 6} L${line.join(" L")} L${x(end.value)} ${CURVE - 6} Z`;
  const bursts: { from: number; to: number; times: number }[] = [];
  for (const one of seen) {
    if (one.times < UNUSUAL) continue;
    const last = bursts.at(-1);
    if (last && one.at - last.to < 7_200_000) {
      last.to = one.at;
      last.times = Math.max(last.times, one.times);
    } else bursts.push({ from: one.at, to: one.at, times: one.times });
  }
  return { area, bursts };
});

const late = (at: number) => x(at) > width.value - 190;

const hours = computed(() => {
  const step = [600_000, 6 * 3_600_000, 2 * 86_400_000][range.value] ?? 3_600_000;
  const first = Math.ceil(begin.value / step) * step;
  return Array.from({ length: Math.floor((end.value - first) / step) + 1 }, (_, i) => first + i * step);
});
const moments = computed(() => [...new Set(props.groups.flatMap((group) => group.points.map(ms)))].sort((a, b) => a - b));

function click(event: MouseEvent) {
  const left = (event.currentTarget as SVGElement).getBoundingClientRect().left;
  const at = begin.value + ((event.clientX - left - LEFT) / (width.value - LEFT - 12)) * (end.value - begin.value);
  const near = moments.value.reduce((best, one) => (Math.abs(one - at) < Math.abs(best - at) ? one : best), moments.value[0] ?? at);
  emit("pick", near);
}
function step(by: number) {
  const here = moments.value.findIndex((one) => one >= props.at);
  const from = here < 0 ? moments.value.length - 1 : here;
  const next = moments.value[Math.min(Math.max(from + by, 0), moments.value.length - 1)];
  if (next) emit("pick", next);
}
</script>

<template>
  <div>
    <div class="ranges" role="group" aria-label="Shown">
      <button v-for="(one, index) in RANGES" :key="one.label" class="link" :class="{ on: range === index }" :aria-pressed="range === index" @click="range = index">
        {{ one.label }}
      </button>
      <span class="quiet legend">● crash-consistent &nbsp; ◆ application-consistent &nbsp; curve: change rate of {{ loudest?.name }} against its usual</span>
    </div>
    <div ref="box">
      <svg
        :width="width"
        :height="height"
        tabindex="0"
        role="slider"
        aria-label="Moment of the recovery points; arrow keys move it"
        :aria-valuenow="at"
        :aria-valuetext="moment(new Date(at).toISOString(), true)"
        @click="click"
        @keydown.left.prevent="step(-1)"
        @keydown.right.prevent="step(1)"
        @keydown.home.prevent="step(-1e6)"
        @keydown.end.prevent="step(1e6)"
      >
        <g v-for="burst in curve.bursts" :key="burst.from">
          <rect :x="x(burst.from)" y="4" :width="Math.max(x(burst.to) - x(burst.from), 5)" :height="height - 26" class="burst" />
          <text :x="x(burst.to) + (late(burst.to) ? -8 - x(burst.to) + x(burst.from) : 8)" y="16" class="bad" :text-anchor="late(burst.to) ? 'end' : 'start'">{{ burst.times.toFixed(1) }} × the usual changes</text>
        </g>
        <path :d="curve.area" class="area" />
        <g v-for="(group, index) in groups" :key="group.group">
          <text x="0" :y="CURVE + index * ROW + 8" class="name">{{ group.name }}</text>
          <template v-for="point in shown[index]" :key="point.id">
            <circle v-if="point.kind === 'crash-consistent'" :cx="x(ms(point))" :cy="CURVE + index * ROW + 4" r="2.3" class="point" />
            <path v-else :d="`M${x(ms(point))} ${CURVE + index * ROW - 1} l5 5 l-5 5 l-5 -5 z`" class="point" />
          </template>
          <circle v-if="chosen[group.group]" :cx="Math.max(x(ms(chosen[group.group]!)), LEFT)" :cy="CURVE + index * ROW + 4" r="6" class="ring" />
        </g>
        <g v-for="hour in hours" :key="hour" class="axis">
          <line :x1="x(hour)" :x2="x(hour)" :y1="height - 22" :y2="height - 17" />
          <text :x="x(hour)" :y="height - 4" text-anchor="middle">{{ moment(new Date(hour).toISOString()) }}</text>
        </g>
        <g v-if="at >= begin" class="choice">
          <line :x1="x(at)" :x2="x(at)" y1="2" :y2="height - 20" />
          <path :d="`M${x(at) - 7} 0 h14 l-7 8 z`" />
        </g>
      </svg>
    </div>
    <p class="under">
      <template v-if="newest">Chosen: <b>the newest point of every group</b>. Click the timeline, or use the arrow keys on it, for an earlier moment.</template>
      <template v-else>Chosen: <b>{{ moment(new Date(at).toISOString(), true) }}</b>, {{ duration((end - at) / 1000) }} before now.</template>
    </p>
  </div>
</template>

<style scoped>
.ranges {
  display: flex;
  gap: var(--gap-4);
}
.ranges .on {
  font-weight: 700;
  border-bottom: 2px solid var(--brass);
}
.legend {
  margin-left: auto;
  font-size: var(--text-s);
}
svg {
  display: block;
  cursor: crosshair;
}
text {
  font-size: 12px;
  fill: var(--ink-2);
  font-family: var(--sans);
}
.name {
  fill: var(--ink-1);
}
text.bad {
  fill: var(--disaster);
}
.burst {
  fill: var(--disaster-soft);
}
.area {
  fill: var(--rule-faint);
  stroke: var(--ink-3);
}
.point {
  fill: var(--ink-1);
}
.ring {
  fill: none;
  stroke: var(--brass);
  stroke-width: 2;
}
.axis line {
  stroke: var(--rule);
}
.choice line {
  stroke: var(--brass);
  stroke-width: 2;
}
.choice path {
  fill: var(--brass);
}
</style>
