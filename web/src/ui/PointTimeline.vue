<script setup lang="ts">
// Recovery points on a time axis: the change rate above, a row of points for each group below. One moment
// is chosen for all groups; each takes its newest point at or before it.
import { computed, onMounted, onScopeDispose, ref, useTemplateRef, watch } from "vue";
import type { RecoveryPoint } from "@/api/types";
import PointMarks from "@/ui/PointMarks.vue";
import { duration, instant, moment } from "@/ui/format";
import { axisTicks, changeCurve, type PointRow as Row, timesUsual } from "@/ui/pointTimeline";

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
const curve = computed(() => changeCurve(loudest.value?.changes ?? [], begin.value, to.value, CURVE, x));
const late = (at: number) => x(at) > width.value - 190;
const ticks = computed(() => axisTicks(begin.value, to.value, (width.value - LEFT) / 130));
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
  const at = Date.parse(instant(before.value));
  const found = moments.value.findLast((one) => one <= at);
  if (found) emit("pick", found);
}
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
            <text :x="late(burst.to) ? x(burst.from) - 8 : x(burst.to) + 8" y="16" class="bad" :text-anchor="late(burst.to) ? 'end' : 'start'">{{ timesUsual(burst.times) }} changes</text>
          </g>
          <path :d="curve.area" class="area" />
        </g>
        <PointMarks v-for="(group, index) in groups" :key="group.group" :group="group" :points="shown[index] ?? []" :chosen="chosen[group.group]" :y="CURVE + index * ROW" :x="x" :left="LEFT - 4" />
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
