<script setup lang="ts">
// A month with its drills; weeks begin on Monday. Days are those of the reader's own time zone.
import { computed } from "vue";
import type { DrillTime } from "@/api/types";
import { dayOf, drillShapes, type Dated } from "@/features/evidence/calendar";
import { instant } from "@/ui/format";

const props = defineProps<{ year: number; month: number; times: Dated[]; closed: { from: number; to: number; name: string }[]; chosen: string }>();
const emit = defineEmits<{ pick: [day: string] }>();
const NAMES = "January February March April May June July August September October November December".split(" ");
const two = (n: number) => String(n).padStart(2, "0");
const key = (day: number) => `${props.year}-${two(props.month + 1)}-${two(day)}`;
const DAY = 86_400_000;
const today = dayOf(new Date());
const blanks = computed(() => (new Date(props.year, props.month, 1).getDay() + 6) % 7);
const days = computed(() =>
  Array.from({ length: new Date(props.year, props.month + 1, 0).getDate() }, (_, i) => {
    const begins = Date.parse(instant(`${key(i + 1)}T00:00:00`));
    const closed = props.closed.find((one) => one.from < begins + DAY && one.to > begins);
    return { day: i + 1, key: key(i + 1), times: props.times.filter((one) => one.day === key(i + 1)), closed: closed?.name ?? "" };
  }),
);
const words = (time: Dated) => `${time.drill.name} of ${time.planName}: ${stateWords[time.time.state] ?? time.time.state}`;
const stateWords: Record<DrillTime["state"], string> = { ahead: "ahead", open: "due now", done: "done", missed: "missed", "left-out": "left out" };
</script>

<template>
  <section :aria-label="`${NAMES[month]} ${year}`">
    <h2>{{ NAMES[month] }} <span class="quiet">{{ year }}</span></h2>
    <div class="grid">
      <span v-for="(name, i) in ['Mo', 'Tu', 'We', 'Th', 'Fr', 'Sa', 'Su']" :key="i" class="quiet">{{ name }}</span>
      <i v-for="n in blanks" :key="`b${n}`" />
      <button
        v-for="one in days"
        :key="one.key"
        type="button"
        :class="{ today: one.key === today, closed: one.closed, chosen: one.key === chosen, plain: !one.times.length }"
        :title="[one.closed && `Black-out: ${one.closed}`, ...one.times.map(words)].filter(Boolean).join('\n')"
        @click="emit('pick', one.key)"
      >
        <span class="mono">{{ one.day }}</span><span class="out-of-sight"> {{ NAMES[month] }}: {{ one.times.map(words).join(", ") || "no drill" }}{{ one.closed ? `, black-out ${one.closed}` : "" }}</span>
        <span v-for="time in one.times.slice(0, 3)" :key="time.drill.plan + time.time.at" aria-hidden="true" :class="['mark', time.time.state]">{{ drillShapes[time.time.state] }} {{ time.drill.plan }}</span>
      </button>
    </div>
  </section>
</template>

<style scoped>
h2 {
  font-family: var(--serif);
  font-size: var(--text-l);
  font-weight: 600;
}
.grid {
  display: grid;
  grid-template-columns: repeat(7, minmax(0, 1fr));
  gap: 2px;
}
.grid > .quiet {
  text-align: center;
  font-size: var(--text-s);
}
button {
  font: inherit;
  text-align: left;
  min-height: 42px;
  padding: 1px 3px;
  border: 1px solid var(--rule-faint);
  border-radius: 2px;
  background: var(--sheet);
  color: var(--ink-1);
  cursor: pointer;
  overflow: hidden;
}
.plain {
  color: var(--ink-2);
}
.today {
  border: 2px solid var(--brass);
}
.chosen {
  background: var(--brass-soft);
}
.closed {
  background: repeating-linear-gradient(120deg, var(--rule-faint) 0 4px, var(--sheet) 4px 8px);
}
.mark {
  display: block;
  font-size: var(--text-s);
  line-height: 1.2;
  font-weight: 600;
  color: var(--test);
  white-space: nowrap;
}
.mark.missed {
  color: var(--disaster);
}
.mark.open {
  color: var(--brass);
}
.mark.left-out {
  color: var(--ink-2);
  font-weight: 400;
}
</style>
