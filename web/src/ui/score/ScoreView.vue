<script setup lang="ts">
// The score: one drawing for a forecast and for a run. Only the rows in sight are drawn, so that two
// thousand of them scroll as smoothly as ten.
import { useLocalStorage, useResizeObserver } from "@vueuse/core";
import { computed, ref, useTemplateRef } from "vue";
import type { ForecastStep, ScoreStep } from "@/api/types";
import { clock } from "@/ui/format";
import ScoreLegend from "@/ui/score/ScoreLegend.vue";
import ScoreRow, { ROW } from "@/ui/score/ScoreRow.vue";
import ScoreTable from "@/ui/score/ScoreTable.vue";
import { AFTER, extent, foreseen, parts, rowsOf, ticks } from "@/ui/score/layout";

const props = withDefaults(
  defineProps<{
    /** What happened and is expected in a run, or what would happen in one. */
    steps?: ScoreStep[];
    forecast?: ForecastStep[];
    waves: string[];
    objective: number;
    now?: number | null;
    selected?: string[];
    dependencies?: [string, string][];
    likely?: number | null;
    lost?: string[];
    ended?: boolean;
    maxHeight?: string;
    editable?: boolean;
    /** The last second on the axis, where it must be that of another score too. */
    ends?: number;
  }>(),
  { steps: () => [], forecast: () => [], ends: 0, now: null, selected: () => [], dependencies: () => [], likely: null, lost: () => [], ended: false, maxHeight: "none", editable: false },
);
const emit = defineEmits<{ pick: [workload: string, event: MouseEvent]; step: [id: string]; delay: [workload: string, seconds: number] }>();

const steps = computed(() => (props.forecast.length ? foreseen(props.forecast) : props.steps));
const headings = computed(() => parts(steps.value, props.now));
const AXIS = computed(() => (headings.value.length ? 50 : 26));
const FOOT = 20;
const box = useTemplateRef<HTMLElement>("box");
const width = ref(800);
const scrolled = ref(0);
const seen = ref(600);

useResizeObserver(box, ([entry]) => {
  if (!entry) return;
  width.value = entry.contentRect.width;
  seen.value = entry.contentRect.height;
});

const running = computed(() => props.now !== null);
const table = ref(false);
const legend = useLocalStorage("maestoso.legend", false);
const marksUsed = computed(() => new Set(rows.value.flatMap((row) => row.bars.map((bar) => bar.mark))));
const narrow = computed(() => width.value < 520);
const left = computed(() => (narrow.value ? 118 : running.value ? 214 : 150));
const cleaning = computed(() => running.value && steps.value.some((step) => AFTER.includes(step.phase) && step.start_s !== null));
const end = computed(() => Math.max(extent(steps.value, props.objective, props.now, cleaning.value), props.ends));
const rows = computed(() => rowsOf(steps.value, props.waves, props.now, props.lost));
const height = computed(() => AXIS.value + rows.value.length * ROW + FOOT);
const inner = computed(() => Math.max(width.value - left.value - 24, 60));
const x = (seconds: number) => left.value + (seconds / end.value) * inner.value;
const y = (index: number) => AXIS.value + index * ROW;
const marks = computed(() => ticks(end.value, inner.value));

const visible = computed(() => {
  const from = Math.max(Math.floor((scrolled.value - AXIS.value) / ROW) - 4, 0);
  const to = Math.ceil((scrolled.value + seen.value) / ROW) + 4;
  return rows.value.slice(from, to).map((row, offset) => ({ row, index: from + offset }));
});

const places = computed(() => new Map(rows.value.map((row, index) => [row.workload, index])));
const threads = computed(() =>
  props.dependencies.flatMap(([from, to]) => {
    const a = places.value.get(from);
    const b = places.value.get(to);
    if (a === undefined || b === undefined) return [];
    const ready = Math.max(0, ...(rows.value[a]?.bars.filter((one) => one.mark !== "cleanup").map((one) => one.to) ?? []));
    const waits = rows.value[b]?.bars.find((one) => one.mark === "rest" || one.mark === "boot")?.from ?? 0;
    const [x1, y1, x2, y2] = [x(ready), y(a) + 11, x(waits), y(b) + 11];
    return [`M${x1} ${y1} C${x1 + 26} ${y1} ${x2 - 30} ${y2} ${x2} ${y2}`];
  }),
);

/** As wide as the words beside the objective. */
const OBJECTIVE_TEXT = 106;
/** Where a word beside a moment stands: right of it, or left of the objective's words where it would meet them. */
function beside(at: number): { x: number; "text-anchor": "start" | "end" } {
  const meets = x(at) < x(props.objective) && x(props.objective) - x(at) < 130;
  return meets ? { x: Math.min(x(at) - 5, x(props.objective) - OBJECTIVE_TEXT), "text-anchor": "end" } : { x: x(at) + 5, "text-anchor": "start" };
}
</script>

<template>
  <div class="panel">
    <p class="faces">
      <span role="tablist" aria-label="Faces of the score">
        <button role="tab" class="link" :aria-selected="!table" @click="table = false">Score</button>
        <button role="tab" class="link" :aria-selected="table" @click="table = true">As a table</button>
      </span>
      <button v-if="!table" class="link" :aria-expanded="legend" @click="legend = !legend">Legend</button>
    </p>
    <ScoreLegend v-if="legend && !table" :marks="marksUsed" :running="running" />
    <ScoreTable v-if="table" :rows="rows" :running="running" @step="emit('step', $event)" @pick="(workload, event) => emit('pick', workload, event)" />
    <div
      v-else
      ref="box"
      class="score"
      :style="{ maxHeight }"
      tabindex="-1"
      @scroll="scrolled = ($event.target as HTMLElement).scrollTop"
    >
      <svg :width="width" :height="height" role="img" aria-label="Score: a row for each workload on a time axis; the table says the same in words">
        <defs>
          <pattern id="rest" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(60)">
            <line x1="0" y1="0" x2="0" y2="6" class="hatch" />
          </pattern>
        </defs>
        <g v-for="(heading, at) in headings" :key="heading.label" class="part">
          <line :x1="x(heading.from)" :x2="x(heading.from)" :y1="4" :y2="height - FOOT" />
          <text :x="x(heading.from) + 4" :y="at % 2 ? 24 : 12">{{ heading.label }}</text>
        </g>
        <g class="axis">
          <template v-for="tick in marks" :key="tick">
            <line :x1="x(tick)" :x2="x(tick)" :y1="AXIS - 4" :y2="height - FOOT" class="grid" />
            <text :x="x(tick)" :y="AXIS - 11" text-anchor="middle">{{ clock(tick) }}</text>
          </template>
        </g>

        <ScoreRow
          v-for="{ row, index } in visible"
          :key="row.key"
          v-bind="{ row, x, left, width, running, narrow, editable }"
          :y="y(index)"
          :selected="!!row.workload && selected.includes(row.workload)"
          :seconds-per-pixel="end / inner"
          @pick="(workload, event) => emit('pick', workload, event)"
          @step="emit('step', $event)"
          @delay="(workload, seconds) => emit('delay', workload, seconds)"
        />

        <path v-for="(thread, at) in threads" :key="`t${at}`" :d="thread" class="thread" />

        <g class="objective">
          <line :x1="x(objective)" :x2="x(objective)" :y1="AXIS - 6" :y2="height - FOOT + 4" />
          <text :x="x(objective) - 5" :y="height - 5" text-anchor="end">objective {{ clock(objective) }}</text>
        </g>
        <g v-if="likely !== null && !running" class="likely">
          <line :x1="x(likely)" :x2="x(likely)" :y1="AXIS - 6" :y2="height - FOOT + 4" />
          <text v-bind="beside(likely)" :y="height - 5">{{ clock(likely) }}</text>
        </g>
        <g v-if="now !== null" class="now">
          <line :x1="x(now)" :x2="x(now)" :y1="AXIS - 6" :y2="height - FOOT + 4" />
          <text v-bind="beside(now)" :y="height - 5">{{ ended ? "end" : "now" }}</text>
        </g>
      </svg>
    </div>
  </div>
</template>

<style scoped>
.faces {
  display: flex;
  gap: var(--gap-4);
  margin-bottom: 2px;
}
.faces [role="tablist"] {
  display: flex;
  gap: var(--gap-3);
}
.faces [aria-selected="true"] {
  color: var(--ink-1);
  font-weight: 600;
}
.score {
  overflow: hidden auto;
  width: 100%;
}
svg {
  display: block;
}
text {
  fill: var(--ink-1);
  font-family: var(--sans);
  font-size: 13px;
}
.axis text {
  font-family: var(--mono);
  font-size: 12px;
  fill: var(--ink-2);
}
.grid {
  stroke: var(--rule-faint);
}
.hatch {
  stroke: var(--ink-3);
  stroke-width: 1.6;
}
.part line {
  stroke: var(--rule);
  stroke-dasharray: 2 4;
}
.part text {
  font-family: var(--serif);
  font-weight: 600;
  fill: var(--ink-2);
  font-size: var(--text-s);
}
.thread {
  fill: none;
  stroke: var(--brass);
  stroke-width: 1.2;
  pointer-events: none;
}
.objective line {
  stroke: var(--ink-1);
  stroke-width: 2;
}
.objective text,
.likely text,
.now text {
  font-size: 12px;
}
.likely line {
  stroke: var(--brass);
  stroke-width: 1.6;
  stroke-dasharray: 5 4;
}
.now line {
  stroke: var(--brass);
  stroke-width: 2;
}
.likely text,
.now text {
  fill: var(--brass);
}
</style>
