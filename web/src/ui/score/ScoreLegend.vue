<script setup lang="ts">
// What the marks of a score mean, as they are drawn.
import { computed } from "vue";
import ScoreBar from "@/ui/score/ScoreBar.vue";
import type { Bar } from "@/ui/score/layout";

const props = defineProps<{ marks: Set<Bar["mark"]>; running: boolean }>();
const WORDS: Partial<Record<Bar["mark"], string>> = {
  prepare: "copies and networks are made", rest: "boot delay", boot: "boots", check: "is checked", hold: "waits for a person",
  script: "script", notify: "notice", name: "names change", door: "front doors open or close", close: "source is shut down", fence: "source is fenced", sync: "last changes are copied",
  cleanup: "is cleaned up", fail: "failed",
};
const shown = computed(() => (Object.keys(WORDS) as Bar["mark"][]).filter((mark) => props.marks.has(mark)));
</script>

<template>
  <ul class="legend" aria-label="Legend">
    <li v-for="mark in shown" :key="mark"><svg width="38" height="23" aria-hidden="true"><ScoreBar :mark="mark" :from="mark === 'hold' || mark === 'fail' ? 18 : 6" :to="32" :at="0" /></svg>{{ WORDS[mark] }}</li>
    <li v-if="running"><svg width="38" height="23" aria-hidden="true"><ScoreBar mark="boot" :from="6" :to="32" :at="0" ahead /></svg>still to come</li>
    <li><svg width="38" height="23" aria-hidden="true"><line x1="6" x2="32" y1="12" y2="12" class="critical" /></svg>decides the time</li>
    <li><svg width="38" height="23" aria-hidden="true"><line x1="18" x2="18" y1="2" y2="21" class="objective" /></svg>objective</li>
    <li v-if="running"><svg width="38" height="23" aria-hidden="true"><line x1="18" x2="18" y1="2" y2="21" class="now" /></svg>now</li>
    <template v-else>
      <li><svg width="38" height="23" aria-hidden="true"><line x1="18" x2="18" y1="2" y2="21" class="likely" /></svg>likely back</li>
      <li><svg width="38" height="23" aria-hidden="true" class="whisker"><line x1="6" x2="32" y1="12" y2="12" /><line x1="6" x2="6" y1="8" y2="16" /><line x1="32" x2="32" y1="8" y2="16" /></svg>ends between, in 8 of 10 cases</li>
    </template>
  </ul>
</template>

<style scoped>
.legend {
  display: flex;
  flex-wrap: wrap;
  gap: 2px var(--gap-4);
  padding: var(--gap-2) 0;
  color: var(--ink-2);
}
li {
  display: flex;
  align-items: center;
  gap: 6px;
}
.critical,
.now {
  stroke: var(--brass);
  stroke-width: 2.5;
}
.objective {
  stroke: var(--ink-1);
  stroke-width: 2;
}
.likely {
  stroke: var(--brass);
  stroke-width: 1.6;
  stroke-dasharray: 5 4;
}
.whisker line {
  stroke: var(--ink-2);
}
</style>
