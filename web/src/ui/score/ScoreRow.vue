<script lang="ts">
/** Height of a row in pixels. */
export const ROW = 23;
</script>

<script setup lang="ts">
// One row of the score: a workload, a group, a cue or a shared step on the time axis.
import { computed, ref } from "vue";
import { clock, roman } from "@/ui/format";
import ScoreBar from "@/ui/score/ScoreBar.vue";
import type { Row } from "@/ui/score/layout";

/** `x` gives the pixel of a second, `y` is the upper edge, `left` where the axis begins. */
const props = defineProps<{
  row: Row;
  x: (seconds: number) => number;
  y: number;
  left: number;
  width: number;
  running: boolean;
  narrow: boolean;
  selected: boolean;
  editable: boolean;
  secondsPerPixel: number;
}>();
const emit = defineEmits<{ pick: [workload: string, event: MouseEvent]; step: [id: string]; delay: [workload: string, seconds: number] }>();

// A boot delay is dragged longer or shorter by the beginning of the boot; by keyboard it is the field of the inspector.
const GRAIN_S = 5;
const dragged = ref<{ from: number; to: number; at: number; seconds: number } | null>(null);
const grip = computed(() => (props.editable && props.row.workload ? props.row.bars.find((bar) => bar.mark === "boot") : undefined));
function grab(event: PointerEvent) {
  const boot = grip.value;
  if (!boot) return;
  const rest = props.row.bars.find((bar) => bar.mark === "rest" && bar.to <= boot.from + 0.5);
  const from = rest?.from ?? boot.from;
  dragged.value = { from, to: boot.from, at: event.clientX, seconds: Math.round(boot.from - from) };
  (event.currentTarget as Element).setPointerCapture(event.pointerId);
}
function pull(event: PointerEvent) {
  const one = dragged.value;
  if (!one) return;
  const wanted = one.to - one.from + (event.clientX - one.at) * props.secondsPerPixel;
  one.seconds = Math.min(Math.max(Math.round(wanted / GRAIN_S) * GRAIN_S, 0), 86_400);
}
function drop() {
  const one = dragged.value;
  dragged.value = null;
  if (one && props.row.workload && one.seconds !== Math.round(one.to - one.from)) emit("delay", props.row.workload, one.seconds);
}

/** As much of a label as has room beside a state, by how wide their letters are on average. */
function fitting(label: string, state: string): string {
  const most = state ? Math.max(Math.floor((props.left - 58 - 5.2 * state.length) / 6.4), 6) : 24;
  return label.length > most ? `${label.slice(0, most - 1)}…` : label;
}
</script>

<template>
  <g>
    <rect
      v-if="selected"
      :x="0"
      :y="y"
      :width="width"
      :height="ROW"
      class="chosen"
    />
    <line v-if="row.first" :x1="0" :x2="width" :y1="y" :y2="y" class="wave-line" />
    <line :x1="left - 6" :x2="width" :y1="y + 11.5" :y2="y + 11.5" class="row-line" />
    <text v-if="row.first && row.wave !== null" :x="4" :y="y + 16" class="numeral">
      {{ roman(row.wave + 1) }}
    </text>
    <text
      :x="32"
      :y="y + 16"
      :class="['name', { strong: row.critical.length > 0 && row.workload, quiet: !row.workload }]"
      @click="row.workload && emit('pick', row.workload, $event)"
    >
      <title>{{ row.label }}</title>{{ fitting(row.label, running && !narrow ? row.state : "") }}
    </text>
    <text
      v-if="running && !narrow"
      :x="left - 14"
      :y="y + 15.5"
      text-anchor="end"
      :class="['state', row.stateTone]"
    >
      {{ row.state }}
    </text>
    <line
      v-if="running && row.ghost"
      :x1="x(row.ghost[0])"
      :x2="x(row.ghost[1])"
      :y1="y + 4"
      :y2="y + 4"
      class="ghost"
    />
    <g v-for="(one, at) in row.bars" :key="at" class="bar" @click="emit('step', one.step)">
      <title>{{ one.title }}, {{ clock(one.from) }} to {{ clock(one.to) }}</title>
      <ScoreBar :mark="one.mark" :from="x(one.from)" :to="x(one.to)" :at="y" :ahead="one.ahead && running" :vain="one.vain" />
    </g>
    <rect
      v-if="grip"
      :x="x(grip.from) - 5"
      :y="y + 2"
      width="10"
      height="19"
      class="grip"
      :data-grip="row.workload"
      @pointerdown.prevent="grab"
      @pointermove="pull"
      @pointerup="drop"
      @pointercancel="dragged = null"
    >
      <title>Drag to change the boot delay of {{ row.workload }}</title>
    </rect>
    <g v-if="dragged" class="dragged">
      <rect :x="x(dragged.from)" :y="y + 4" :width="Math.max(x(dragged.from + dragged.seconds) - x(dragged.from), 1)" height="15" />
      <text :x="x(dragged.from + dragged.seconds) + 6" :y="y + 16">delay {{ clock(dragged.seconds) }}</text>
    </g>
    <g v-if="row.whisker && !running" class="whisker">
      <line :x1="x(row.whisker[0])" :x2="x(row.whisker[1])" :y1="y + 11.5" :y2="y + 11.5" />
      <line v-for="edge in row.whisker" :key="edge" :x1="x(edge)" :x2="x(edge)" :y1="y + 8" :y2="y + 15" />
    </g>
    <line
      v-for="(part, at) in row.critical"
      :key="`c${at}`"
      :x1="x(part[0])"
      :x2="x(part[1])"
      :y1="y + 20.5"
      :y2="y + 20.5"
      class="critical"
    />
  </g>
</template>

<style scoped>
text {
  fill: var(--ink-1);
  font-family: var(--sans);
  font-size: 13px;
}
.row-line {
  stroke: var(--rule-faint);
}
.wave-line {
  stroke: var(--rule);
}
.numeral {
  font-family: var(--serif);
  font-weight: 700;
  fill: var(--brass);
}
.name {
  cursor: pointer;
}
.name.strong {
  font-weight: 700;
}
.name.quiet {
  fill: var(--ink-2);
  cursor: default;
}
.state {
  font-size: 12px;
  fill: var(--ink-2);
}
.state.busy {
  fill: var(--brass);
}
.state.bad {
  fill: var(--disaster);
  font-weight: 700;
}
.chosen {
  fill: var(--brass-soft);
}
.bar {
  cursor: pointer;
}
.grip {
  fill: transparent;
  cursor: ew-resize;
}
.grip:hover {
  fill: var(--brass-soft);
  stroke: var(--brass);
}
.dragged rect {
  fill: var(--brass-soft);
  stroke: var(--brass);
}
.ghost {
  stroke: var(--ink-3);
  stroke-width: 1.5;
  opacity: 0.55;
}
.whisker line {
  stroke: var(--ink-2);
}
.critical {
  stroke: var(--brass);
  stroke-width: 2.5;
}
</style>
