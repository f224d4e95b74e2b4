<script setup lang="ts">
// A year of a plan as a strip of days: every run a mark, and for how long its proof held.
import { computed } from "vue";
import { useRouter } from "vue-router";
import type { PlanProof } from "@/api/types";
import { kinds, proves } from "@/features/evidence/words";
import { moment } from "@/ui/format";
import { outcomeShapes } from "@/ui/outcomes";

const props = defineProps<{ plan: PlanProof; year: number; holdsDays: number }>();
const router = useRouter();
const [WIDTH, HEIGHT] = [560, 30];
const DAY = 86_400_000;
const first = computed(() => Date.UTC(props.year, 0, 1));
const last = computed(() => Date.UTC(props.year + 1, 0, 1));
const x = (at: number) => ((Math.min(Math.max(at, first.value), last.value) - first.value) / (last.value - first.value)) * WIDTH;
const months = computed(() => Array.from({ length: 12 }, (_, month) => x(Date.UTC(props.year, month, 1))));
const spans = computed(() => props.plan.marks.filter((mark) => proves(mark.outcome)).map((mark) => [x(Date.parse(mark.at)), x(Math.min(Date.parse(mark.at) + props.holdsDays * DAY, Math.max(Date.now(), Date.parse(mark.at))))] as const));
const today = computed(() => (Date.now() > first.value && Date.now() < last.value ? x(Date.now()) : null));
const words = (mark: PlanProof["marks"][number]) => `Run ${mark.run}, ${moment(mark.at)}: ${(kinds[mark.kind] ?? mark.kind).toLowerCase()}, ${mark.outcome}`;
</script>

<template>
  <svg :viewBox="`0 0 ${WIDTH} ${HEIGHT}`" :width="WIDTH" :height="HEIGHT" role="group" :aria-label="`${plan.name} in ${year}`">
    <line v-for="month in months" :key="month" :x1="month" :x2="month" y1="4" y2="26" class="month" />
    <rect x="0" y="11" :width="WIDTH" height="8" class="open" />
    <rect v-for="[from, to] in spans" :key="from" :x="from" y="11" :width="Math.max(to - from, 1)" height="8" class="proved" />
    <line v-if="today !== null" :x1="today" :x2="today" y1="2" y2="28" class="today" />
    <a v-for="mark in plan.marks" :key="mark.run" :href="`/runs/${mark.run}/evidence`" :aria-label="words(mark)" @click.prevent="router.push(`/runs/${mark.run}/evidence`)">
      <title>{{ words(mark) }}</title>
      <rect :x="x(Date.parse(mark.at)) - 8" y="7" width="16" height="16" rx="8" :class="['mark', mark.kind]" />
      <text :x="x(Date.parse(mark.at))" y="19" text-anchor="middle" :class="{ bad: !proves(mark.outcome) }">{{ outcomeShapes[mark.outcome] ?? "·" }}</text>
    </a>
  </svg>
</template>

<style scoped>
svg {
  max-width: 100%;
  display: block;
}
.month {
  stroke: var(--rule);
}
.open {
  fill: var(--rule-faint);
}
.proved {
  fill: var(--test-soft);
  stroke: var(--test);
  stroke-width: 0.6;
}
.today {
  stroke: var(--brass);
  stroke-width: 1.6;
}
.mark {
  fill: var(--sheet);
  stroke: var(--test);
  stroke-dasharray: 3 2;
}
.mark.planned {
  stroke: var(--planned);
  stroke-dasharray: none;
}
.mark.disaster {
  stroke: var(--disaster);
  stroke-dasharray: none;
  stroke-width: 2;
}
text {
  font-size: var(--text-s);
  font-weight: 700;
  fill: var(--ink-1);
}
text.bad {
  fill: var(--disaster);
}
a {
  cursor: pointer;
}
</style>
