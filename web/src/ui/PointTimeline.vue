<script setup lang="ts">
// Recovery points on a time axis: the change rate above, a row of points for each group below. One moment
// is chosen for all groups; each takes its newest point at or before it.
import { computed, onMounted, onScopeDispose, ref, useTemplateRef, watch } from "vue";
import type { GroupPoints, RecoveryPoint } from "@/api/types";
import { duration, moment } from "@/ui/format";

type Row = Pick<GroupPoints, "group" | "name" | "points" | "changes" | "hint" | "proved">;
const props = defineProps<{ groups: Row[]; now: string; at: number; newest: boolean; chosen: Record<string, RecoveryPoint | undefined> }>();
const emit = defineEmits<{ pick: [at: number] }>();

const RANGES = [
  { label: "10 min", seconds: 600 },
  { label: "hour", seconds: 3600 },
  { label: "6 h", seconds: 6 * 3600 },
  { label: "2 days", seconds: 2 * 86_400 },
  { label: "14 days", seconds: 14 * 86_400 },
  { label: "30 days", seconds: 30 * 86_400 },
];
const CLOSEST_S = 30;
const WIDEST_S = 30 * 86_400;
const end = computed(() => new Date(props.now).getTime());
/** What is shown: seconds in all, and how many seconds before now it ends. */
const span = ref(2 * 86_400);
const behind = ref(0);
const to = computed(() => end.value - behind.value * 1000);
const begin = computed(() => to.value - span.value * 1000);
const box = useTemplateRef<HTMLElement>("box");
const width = ref(900);
const observer = new ResizeObserver(([entry]) => {
  if (entry) width.value = entry.contentRect.width;
});
onMounted(() => box.value && observer.observe(box.value));
onScopeDispose(() => observer.disconnect());

const LEFT = 128;
const CURVE = 74;
const ROW = 22;
const UNUSUAL = 3;
const x = (ms: number) => LEFT + ((ms - begin.value) / (to.value - begin.value)) * (width.value - LEFT - 12);
const timeAt = (px: number) => begin.value + ((px - LEFT) / (width.value - LEFT - 12)) * (to.value - begin.value);
const ms = (point: RecoveryPoint) => new Date(point.at).getTime();
const height = computed(() => CURVE + props.groups.length * ROW + 24);

function zoom(factor: number, around = to.value) {
  const before = span.value;
  span.value = Math.min(Math.max(before * factor, CLOSEST_S), WIDEST_S);
  const share = (to.value - around) / (before * 1000);
  behind.value = Math.max((end.value - around) / 1000 - share * span.value, 0);
}
function show(seconds: number) {
  span.value = seconds;
  behind.value = 0;
}
function pan(share: number) {
  behind.value = Math.min(Math.max(behind.value + share * span.value, 0), WIDEST_S);
}
// What was chosen must be seen.
watch(
  () => props.at,
  (at) => {
    if (at > to.value || at < begin.value) behind.value = Math.max((end.value - at) / 1000 - span.value / 2, 0);
  },
);

const shown = computed(() =>
  props.groups.map((group) => {
    const inside = group.points.filter((point) => ms(point) >= begin.value && ms(point) <= to.value);
    // No more points than there are pixels for; those that differ from the others are never left out.
    const step = Math.max(Math.ceil(inside.length / (width.value / 7)), 1);
    return inside.filter((point, i) => i % step === 0 || point.label || group.proved[point.id] || (point.kind === "application-consistent" && inside.length < 400));
  }),
);

// The group with the most unusual change speaks for all: that is what one looks for here.
const loudest = computed(() => {
  const most = (group: Row) => Math.max(0, ...group.changes.map((one) => one.anomaly));
  return [...props.groups].sort((a, b) => most(b) - most(a))[0];
});
const curve = computed(() => {
  const rates = (loudest.value?.changes ?? []).map((one) => ({ at: new Date(one.at).getTime(), rate: one.rate_bps, times: one.anomaly }));
  const slack = 700_000;
  const seen = rates.filter((one) => one.at >= begin.value - slack && one.at <= to.value + slack);
  const first = seen[0];
  const last = seen.at(-1);
  if (!first || !last) return { area: "", bursts: [] };
  const top = Math.max(1, ...seen.map((one) => one.rate));
  const y = (rate: number) => CURVE - 6 - (rate / top) * (CURVE - 26);
  const line = seen.map((one) => `${x(one.at).toFixed(1)} ${y(one.rate).toFixed(1)}`);
  const area = `M${x(first.at)} ${CURVE - 6} L${line.join(" L")} L${x(Math.max(last.at, to.value))} ${y(last.rate)} V${CURVE - 6} Z`;
  const bursts: { from: number; to: number; times: number }[] = [];
  for (const one of seen) {
    if (one.times < UNUSUAL) continue;
    const before = bursts.at(-1);
    if (before && one.at - before.to < 7_200_000) {
      before.to = one.at;
      before.times = Math.max(before.times, one.times);
    } else bursts.push({ from: one.at, to: one.at + 600_000, times: one.times });
  }
  return { area, bursts };
});

const late = (at: number) => x(at) > width.value - 190;
const STEPS = [5, 15, 30, 60, 300, 600, 1800, 3600, 10_800, 21_600, 43_200, 86_400, 2 * 86_400, 5 * 86_400];
const ticks = computed(() => {
  const wanted = span.value / Math.max((width.value - LEFT) / 130, 1);
  const step = (STEPS.find((one) => one >= wanted) ?? 5 * 86_400) * 1000;
  const first = Math.ceil(begin.value / step) * step;
  return Array.from({ length: Math.max(Math.floor((to.value - first) / step) + 1, 0) }, (_, i) => first + i * step);
});
const moments = computed(() => [...new Set(props.groups.flatMap((group) => group.points.map(ms)))].sort((a, b) => a - b));
const consistent = computed(() => {
  const all = props.groups.flatMap((group) => group.points.filter((point) => point.kind === "application-consistent").map(ms));
  return all.length ? Math.max(...all) : null;
});

function click(event: MouseEvent) {
  const left = (event.currentTarget as SVGElement).getBoundingClientRect().left;
  const at = timeAt(event.clientX - left);
  const near = moments.value.reduce((best, one) => (Math.abs(one - at) < Math.abs(best - at) ? one : best), moments.value[0] ?? at);
  emit("pick", near);
}
function wheel(event: WheelEvent) {
  const left = (event.currentTarget as SVGElement).getBoundingClientRect().left;
  if (event.shiftKey || Math.abs(event.deltaX) > Math.abs(event.deltaY)) pan((event.deltaX || event.deltaY) > 0 ? -0.15 : 0.15);
  else zoom(event.deltaY > 0 ? 1.3 : 1 / 1.3, timeAt(event.clientX - left));
}
function step(by: number) {
  const here = moments.value.findIndex((one) => one >= props.at);
  const from = here < 0 ? moments.value.length - 1 : here;
  const next = moments.value[Math.min(Math.max(from + by, 0), moments.value.length - 1)];
  if (next) emit("pick", next);
}
const before = ref("");
function pickBefore() {
  const at = new Date(before.value).getTime();
  const found = moments.value.findLast((one) => one <= at);
  if (found) emit("pick", found);
}
const about = (group: Row, point: RecoveryPoint) =>
  [
    moment(point.at, true),
    point.kind,
    point.label ? `pinned: ${point.label}` : "",
    group.proved[point.id] ? `proved by run ${group.proved[point.id]}` : "",
    point.anomaly >= UNUSUAL ? `${point.anomaly.toFixed(1)} × the usual changes` : "",
  ]
    .filter(Boolean)
    .join(", ");
</script>

<template>
  <div>
    <div class="ranges" role="group" aria-label="Shown">
      <button v-for="one in RANGES" :key="one.label" class="link" :class="{ on: span === one.seconds && behind === 0 }" :aria-pressed="span === one.seconds && behind === 0" @click="show(one.seconds)">
        {{ one.label }}
      </button>
      <button class="link" aria-label="Closer" @click="zoom(0.5)">+</button>
      <button class="link" aria-label="Further away" @click="zoom(2)">−</button>
      <button class="link" aria-label="Earlier" @click="pan(0.5)">◂</button>
      <button class="link" aria-label="Later" @click="pan(-0.5)">▸</button>
      <span class="quiet legend">● crash- ◆ application-consistent ⚑ pinned ✓ proved; curve: changes of {{ loudest?.name }}</span>
    </div>
    <div ref="box">
      <svg
        :width="width"
        :height="height"
        tabindex="0"
        role="slider"
        aria-label="Moment of the recovery points; arrow keys move it, plus and minus zoom"
        :aria-valuenow="at"
        :aria-valuetext="moment(new Date(at).toISOString(), true)"
        @click="click"
        @wheel.prevent="wheel"
        @keydown.left.prevent="step(-1)"
        @keydown.right.prevent="step(1)"
        @keydown.home.prevent="step(-1e6)"
        @keydown.end.prevent="step(1e6)"
        @keydown="($event.key === '+' && zoom(0.5, at)) || ($event.key === '-' && zoom(2, at))"
      >
        <defs>
          <clipPath id="plot"><rect :x="LEFT - 6" y="0" :width="Math.max(width - LEFT, 0)" :height="height" /></clipPath>
        </defs>
        <g clip-path="url(#plot)">
          <g v-for="burst in curve.bursts" :key="burst.from">
            <rect :x="x(burst.from)" y="4" :width="Math.max(x(burst.to) - x(burst.from), 5)" :height="height - 26" class="burst" />
            <text :x="late(burst.to) ? x(burst.from) - 8 : x(burst.to) + 8" y="16" class="bad" :text-anchor="late(burst.to) ? 'end' : 'start'">{{ burst.times.toFixed(1) }} × the usual changes</text>
          </g>
          <path :d="curve.area" class="area" />
        </g>
        <g v-for="(group, index) in groups" :key="group.group">
          <text x="0" :y="CURVE + index * ROW + 8" class="name">{{ group.name }}</text>
          <g v-for="point in shown[index]" :key="point.id" :class="{ pinned: point.label }">
            <title>{{ about(group, point) }}</title>
            <circle v-if="point.kind === 'crash-consistent'" :cx="x(ms(point))" :cy="CURVE + index * ROW + 4" r="2.3" class="point" />
            <path v-else :d="`M${x(ms(point))} ${CURVE + index * ROW - 1} l5 5 l-5 5 l-5 -5 z`" class="point" />
            <path v-if="point.label" :d="`M${x(ms(point))} ${CURVE + index * ROW + 4} v-15 h9 l-3 3.5 l3 3.5 h-9`" class="flag" />
            <path v-if="group.proved[point.id]" :d="`M${x(ms(point)) - 5} ${CURVE + index * ROW + 11} l3 4 l6 -7`" class="proof" />
          </g>
          <circle v-if="chosen[group.group] && x(ms(chosen[group.group]!)) >= LEFT - 4" :cx="x(ms(chosen[group.group]!))" :cy="CURVE + index * ROW + 4" r="6" class="ring" />
        </g>
        <g v-for="tick in ticks" :key="tick" class="axis">
          <line :x1="x(tick)" :x2="x(tick)" :y1="height - 22" :y2="height - 17" />
          <text :x="Math.min(x(tick), width)" :y="height - 4" :text-anchor="x(tick) > width - 46 ? 'end' : 'middle'">{{ moment(new Date(tick).toISOString(), span < 900) }}</text>
        </g>
        <g v-if="at >= begin && at <= to" class="choice">
          <line :x1="x(at)" :x2="x(at)" y1="2" :y2="height - 20" />
          <path :d="`M${x(at) - 7} 0 h14 l-7 8 z`" />
        </g>
      </svg>
    </div>
    <div class="under choosing">
      <span v-if="newest">Chosen: <b>the newest point{{ groups.length > 1 ? " of every group" : "" }}</b>. Click the timeline, or use the arrow keys on it, for an earlier moment.</span>
      <span v-else>Chosen: <b>{{ moment(new Date(at).toISOString(), true) }}</b>, {{ duration((end - at) / 1000) }} before now.</span>
      <button v-if="consistent" class="link" @click="emit('pick', consistent)">Latest application-consistent</button>
      <el-form-item label="before" class="inline"><el-date-picker v-model="before" type="datetime" value-format="YYYY-MM-DDTHH:mm" format="D MMM YYYY, HH:mm" aria-label="Latest point before" @change="pickBefore" /></el-form-item>
    </div>
  </div>
</template>

<style scoped>
.ranges {
  display: flex;
  flex-wrap: wrap;
  gap: var(--gap-3);
}
.ranges .on {
  font-weight: 700;
  border-bottom: 2px solid var(--brass);
}
.legend {
  margin-left: auto;
  font-size: var(--text-s);
}
.choosing {
  display: flex;
  flex-wrap: wrap;
  gap: var(--gap-2) var(--gap-4);
  align-items: baseline;
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
