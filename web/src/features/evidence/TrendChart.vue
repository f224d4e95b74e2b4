<script setup lang="ts">
// One figure over all runs of a plan: a mark a run in the shape and line of its kind, the objective a line.
import { useElementSize } from "@vueuse/core";
import { scaleLinear } from "d3-scale";
import { computed, useTemplateRef } from "vue";
import { useRouter } from "vue-router";
import type { TrendRun } from "@/api/types";
import { moment } from "@/ui/format";
import { outcomeShapes } from "@/ui/outcomes";
import { axisTicks } from "@/ui/pointTimeline";

const props = defineProps<{
  title: string;
  runs: TrendRun[];
  value: (run: TrendRun) => number | null;
  say: (value: number) => string;
  /** Whether it is a time; otherwise it is counted. */
  seconds?: boolean;
  /** The objective when the run was made, and now. */
  objective?: ((run: TrendRun) => number) | null;
  now?: number | null;
}>();
const router = useRouter();
const HEIGHT = 128;
const [LEFT, RIGHT, TOP, FOOT] = [88, 120, 12, 20];
const TICKS = 3;
const box = useTemplateRef<HTMLElement>("box");
const { width } = useElementSize(box, { width: 700, height: HEIGHT });

const most = computed(() => Math.max(1, props.now ?? 0, ...props.runs.map((run) => Math.max(props.value(run) ?? 0, props.objective?.(run) ?? 0))) * 1.12);
const x = (index: number) => LEFT + ((index + 0.5) / Math.max(props.runs.length, 1)) * (width.value - LEFT - RIGHT);
const scale = computed(() => scaleLinear([0, most.value], [HEIGHT - FOOT, TOP]));
const y = (value: number) => scale.value(value);
const ticks = computed(() => (props.seconds ? axisTicks(0, most.value * 1000, TICKS).map((ms) => ms / 1000) : scale.value.ticks(TICKS).filter(Number.isInteger)));
const known = computed(() => props.runs.map((run, index) => ({ run, index, value: props.value(run) })));
const path = computed(() => known.value.filter((one) => one.value !== null).map((one, i) => `${i ? "L" : "M"}${x(one.index)} ${y(one.value ?? 0)}`).join(" "));
const steps = computed(() => {
  const of = props.objective;
  if (!of) return "";
  const half = (width.value - LEFT - RIGHT) / Math.max(props.runs.length, 1) / 2;
  return props.runs.map((run, index) => `${index ? "L" : "M"}${x(index) - half} ${y(of(run))} L${x(index) + half} ${y(of(run))}`).join(" ");
});
const missed = (run: TrendRun, value: number | null) => value === null || (!!props.objective && value > props.objective(run));
const words = (run: TrendRun, value: number | null) => `Run ${run.run}, ${moment(run.at)}, ${run.kind}, version ${run.version}: ${value === null ? "not reached" : props.say(value)}`;
</script>

<template>
  <figure ref="box">
    <figcaption>{{ title }}</figcaption>
    <svg :width="width" :height="HEIGHT" role="group" :aria-label="title">
      <g v-for="tick in ticks" :key="tick">
        <line :x1="LEFT" :x2="width - RIGHT" :y1="y(tick)" :y2="y(tick)" class="axis" />
        <text :x="LEFT - 8" :y="y(tick) + 4" text-anchor="end" class="quiet">{{ say(tick) }}</text>
      </g>
      <path v-if="steps" :d="steps" class="objective" />
      <text v-if="now" :x="width - RIGHT + 6" :y="y(now) + 4">{{ say(now) }} wanted</text>
      <path :d="path" class="line" />
      <a v-for="one in known" :key="one.run.run" :href="`/runs/${one.run.run}/evidence`" :aria-label="words(one.run, one.value)" @click.prevent="router.push(`/runs/${one.run.run}/evidence`)">
        <title>{{ words(one.run, one.value) }}</title>
        <rect :x="x(one.index) - 12" :y="TOP - 8" width="24" :height="HEIGHT - TOP" class="target" />
        <path v-if="one.value === null" :d="`M${x(one.index) - 5} ${TOP} l10 10 m0 -10 l-10 10`" class="lost" />
        <circle v-else :cx="x(one.index)" :cy="y(one.value)" r="6" :class="[one.run.kind, { missed: missed(one.run, one.value) }]" />
        <text :x="x(one.index)" :y="HEIGHT - 5" text-anchor="middle" class="quiet">{{ one.run.run }} {{ outcomeShapes[one.run.outcome] }}</text>
      </a>
    </svg>
  </figure>
</template>

<style scoped>
figure {
  margin: var(--gap-3) 0 0;
}
figcaption {
  font-weight: 700;
  color: var(--ink-2);
}
svg {
  display: block;
}
text {
  font-size: var(--text-s);
  font-family: var(--mono);
  fill: var(--ink-1);
}
text.quiet {
  fill: var(--ink-2);
}
.axis {
  stroke: var(--rule);
}
.objective {
  fill: none;
  stroke: var(--ink-1);
}
.line {
  fill: none;
  stroke: var(--ink-3);
  stroke-width: 1.5;
}
.target {
  fill: transparent;
}
a {
  cursor: pointer;
}
a:hover .target {
  fill: var(--rule-faint);
}
circle {
  fill: var(--sheet);
  stroke-width: 2;
}
circle.test {
  stroke: var(--test);
  stroke-dasharray: 3.1 1.6;
}
circle.planned {
  stroke: var(--planned);
}
circle.disaster {
  stroke: var(--disaster);
}
circle.missed {
  fill: var(--disaster);
}
.lost {
  stroke: var(--disaster);
  stroke-width: 2;
  fill: none;
}
</style>
