<script setup lang="ts">
// One mark of the score. Sizes are pixels; `at` is the top of its row.
import { computed } from "vue";
import type { Bar } from "@/ui/score/layout";

const props = defineProps<{ mark: Bar["mark"]; from: number; to: number; at: number; ahead?: boolean; vain?: boolean }>();
const LEAST = 1.5;
const wide = computed(() => Math.max(props.to - props.from, LEAST));

/** A wave line: data that flows. */
const flow = computed(() => {
  const half = 7;
  let d = `M${props.from} ${props.at + 11.5}`;
  for (let here = props.from, up = true; here < props.to; here += half, up = !up) d += ` q${half / 2} ${up ? -6 : 6} ${Math.min(half, props.to - here)} 0`;
  return d;
});
</script>

<template>
  <rect v-if="ahead && mark !== 'hold'" :x="from" :y="at + 6.5" :width="wide" height="10" :class="mark === 'rest' ? 'rest' : 'ahead'" />
  <rect v-else-if="mark === 'prepare' || mark === 'shared'" :x="from" :y="at + 8" :width="wide" height="7" class="prepare" />
  <rect v-else-if="mark === 'rest'" :x="from" :y="at + 8" :width="wide" height="7" class="rest" />
  <rect v-else-if="mark === 'boot'" :x="from" :y="at + 6" :width="wide" height="11" class="boot" />
  <g v-else-if="mark === 'check'">
    <rect :x="from" :y="at + 6" :width="Math.max(wide, 9)" height="11" class="check" />
    <path v-if="!vain" :d="`M${from + Math.max(wide, 9) / 2 - 3} ${at + 11.5} l2.2 2.4 l4 -5`" class="tick" />
  </g>
  <rect v-else-if="mark === 'close'" :x="from" :y="at + 6.5" :width="wide" height="10" rx="2" class="close" />
  <line v-else-if="mark === 'fence'" :x1="to" :x2="to" :y1="at + 3" :y2="at + 20" class="fence" />
  <path v-else-if="mark === 'sync'" :d="flow" class="sync" />
  <rect v-else-if="mark === 'cleanup'" :x="from" :y="at + 6.5" :width="wide" height="10" rx="2" class="cleanup" />
  <g v-else-if="mark === 'script'" class="script">
    <rect :x="from" :y="at + 6" :width="Math.max(wide, 11)" height="11" />
    <path :d="`M${from + 3.5} ${at + 8.5} l3 3 l-3 3`" />
  </g>
  <path v-else-if="mark === 'notify'" :d="`M${from} ${at + 18} v-12 l8 3 l-8 3`" class="notify" />
  <g v-else-if="mark === 'name'" class="name">
    <path :d="`M${from} ${at + 6} h${Math.max(wide, 12) - 5} l5 5.5 l-5 5.5 h-${Math.max(wide, 12) - 5} z`" />
    <circle :cx="from + 4" :cy="at + 11.5" r="1.4" />
  </g>
  <path v-else-if="mark === 'door'" :d="`M${from} ${at + 17.5} v-7 a5 5 0 0 1 10 0 v7 z m0 0 h${Math.max(wide, 14)}`" class="door" />
  <g v-else-if="mark === 'hold'" :transform="`translate(${from} ${at + 14})`" class="hold">
    <path d="M-7 0 a7 7 0 0 1 14 0" />
    <circle r="2" cy="-1" />
  </g>
  <g v-else-if="mark === 'fail'" :transform="`translate(${from} ${at + 11.5})`" class="fail">
    <rect x="-5.5" y="-5.5" width="11" height="11" />
    <path d="M-3 -3 l6 6 M3 -3 l-6 6" />
  </g>
</template>

<style scoped>
.prepare {
  fill: var(--ink-3);
}
.boot {
  fill: var(--ink-1);
}
.check {
  fill: var(--sheet);
  stroke: var(--ink-1);
  stroke-width: 1.3;
}
.tick {
  fill: none;
  stroke: var(--ink-1);
  stroke-width: 1.5;
}
.script rect {
  fill: var(--sheet);
  stroke: var(--ink-1);
  stroke-width: 1.3;
}
.script path,
.name path {
  fill: var(--sheet);
  stroke: var(--ink-1);
  stroke-width: 1.2;
}
.door {
  fill: var(--sheet);
  stroke: var(--ink-1);
  stroke-width: 1.3;
}
.name circle {
  fill: var(--ink-1);
}
.notify {
  fill: none;
  stroke: var(--brass);
  stroke-width: 1.6;
}
.notify {
  fill: var(--brass-soft);
}
.rest {
  fill: url(#rest);
}
.close {
  fill: var(--sheet);
  stroke: var(--ink-1);
  stroke-width: 1.4;
}
.fence {
  stroke: var(--ink-1);
  stroke-width: 2.4;
}
.sync {
  fill: none;
  stroke: var(--planned);
  stroke-width: 1.8;
}
.cleanup {
  fill: var(--sheet);
  stroke: var(--ink-2);
  stroke-width: 1.4;
}
.ahead {
  fill: none;
  stroke: var(--ink-3);
  stroke-dasharray: 2 2;
}
.hold path {
  fill: none;
  stroke: var(--brass);
  stroke-width: 1.6;
}
.hold circle {
  fill: var(--brass);
}
.fail rect {
  fill: var(--disaster-soft);
  stroke: var(--disaster);
  stroke-width: 1.4;
}
.fail path {
  stroke: var(--disaster);
  stroke-width: 1.6;
}
</style>
